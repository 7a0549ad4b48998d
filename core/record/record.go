// Package record writes and reads the log of a run: every byte that went over
// the ports, with times, and every verdict.
//
// A record is JSON Lines: one event a line, in the order in which things
// happened, written as they happen and made to last at every verdict. A program
// that is killed leaves a record whose last line may be torn. Verdicts carry a
// checksum of all that stands before them, and so does the closing line, so that
// Read can tell a whole record from one that was cut short or altered. The format
// is described in docs/record.md.
package record

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"time"
	"unicode/utf8"

	"uparrot/core/source"
	"uparrot/core/verdict"
)

// version is the version of the format, in the head of every record. Version 1
// had neither checksums nor a closing line, version 3 no series.
const version = 4

// Kind says what an event is of.
type Kind string

// The kinds of event.
const (
	Head    Kind = "record"  // first: an Origin
	Open    Kind = "open"    // a port was opened: an Opened
	Close   Kind = "close"   // a port was closed
	In      Kind = "in"      // bytes came
	Out     Kind = "out"     // bytes went
	Passed  Kind = "passed"  // a line that no statement took
	Begin   Kind = "begin"   // a procedure begins
	Step    Kind = "step"    // a step begins, or ends with its verdict
	Try     Kind = "try"     // a try of a step failed and another follows
	Check   Kind = "check"   // a check was made
	Limit   Kind = "limit"   // a value was held against limits: a Measurement
	Value   Kind = "value"   // a value without limits: a Measurement
	Series  Kind = "series"  // a series of values begins: a SeriesBegins
	Sampled Kind = "samples" // values of a series: Samples
	Round   Kind = "round"   // a repetition begins another time, or is over: a RoundMark
	Frame   Kind = "frame"   // what became of one frame of a link run
	Link    Kind = "link"    // the summary of a link run
	Result  Kind = "result"  // what a test found that is none of frames
	Kept    Kind = "kept"    // a value was kept as a file
	Told    Kind = "told"    // the operator was told something, or asked and has answered
	Changed Kind = "changed" // a port's line settings or signals were changed
	Verdict Kind = "verdict" // the verdict of the whole run
	Note    Kind = "note"    // anything else worth knowing
	End     Kind = "end"     // last: the record is whole
)

// Kinds that are told to whoever watches, and do not stand in a record: what they
// tell stands there in another form.
const (
	Said     Kind = "said"     // a statement says something: the words
	Heard    Kind = "heard"    // a statement took something: the words
	Waiting  Kind = "waiting"  // once a second, for as long as something is waited for
	Measured Kind = "measured" // a value of a series, as it is measured: a Measurement
	Progress Kind = "progress" // how far a test has come
	Ended    Kind = "ended"    // an answer has ended: its last line or the prompt
)

// kinds are those of a record. Those that last carry a checksum, with a verdict that
// must survive a failing machine.
var kinds = map[Kind]struct{ lasts bool }{
	Head: {}, Open: {}, Close: {}, In: {}, Out: {}, Passed: {}, Begin: {}, Step: {true}, Try: {true}, Check: {}, Limit: {true}, Value: {true}, Series: {}, Sampled: {}, Round: {}, Frame: {}, Link: {true},
	Result: {true}, Kept: {}, Told: {}, Changed: {}, Verdict: {true}, Note: {}, End: {true},
}

// Event is something that happened; in a record it is a line. Which fields are set
// depends on the kind.
type Event struct {
	Time    time.Time       `json:"t"`
	Kind    Kind            `json:"kind"`
	Port    string          `json:"port,omitempty"`
	Text    string          `json:"text,omitempty"` // bytes that are valid UTF-8, or words
	Hex     string          `json:"hex,omitempty"`  // bytes that are not
	Step    string          `json:"step,omitempty"`
	Try     int             `json:"try,omitempty"`
	Verdict verdict.Verdict `json:"verdict,omitempty"`
	Why     string          `json:"why,omitempty"`
	TookMS  float64         `json:"took_ms,omitempty"`
	Data    json.RawMessage `json:"data,omitempty"`
	Sum     string          `json:"sum,omitempty"` // SHA-256 up to this line; it must stand last

	// While it happens. Value becomes Data in a record; the others are for whoever
	// watches.
	Value any   `json:"-"`
	Live  any   `json:"-"`
	Err   error `json:"-"` // what Why says in words
}

// lasts reports whether an event carries a checksum.
func (e Event) lasts() bool { return kinds[e.Kind].lasts && (e.Verdict != "" || e.Kind == End) }

// Decode reads the data of an event.
func Decode[T any](e Event) (v T, err error) {
	if err := json.Unmarshal(e.Data, &v); err != nil {
		return v, fmt.Errorf("what the record says of a %s cannot be read: %w", e.Kind, err)
	}
	return v, nil
}

// Bytes are the bytes of an In or Out event.
func (e Event) Bytes() ([]byte, error) {
	if e.Hex != "" {
		return hex.DecodeString(e.Hex)
	}
	return []byte(e.Text), nil
}

// SetBytes makes bytes the text of an event, or its hex.
func (e *Event) SetBytes(b []byte) {
	e.Text, e.Hex = "", ""
	if utf8.Valid(b) {
		e.Text = string(b)
	} else {
		e.Hex = hex.EncodeToString(b)
	}
}

// Origin is what the head of a record tells of it. Only the version is always
// there.
type Origin struct {
	Version  int    `json:"version"`
	Tool     string `json:"tool"`
	Run      string `json:"run,omitempty"`      // names the run for good: 16 hexadecimal digits
	Command  string `json:"command,omitempty"`  // what was done: run, link test, talk
	Unit     string `json:"unit,omitempty"`     // the module that it was done to
	Operator string `json:"operator,omitempty"` // who did it
	Machine  string `json:"machine,omitempty"`  // the name of the computer
	System   string `json:"system,omitempty"`   // its system and processor, as Go names them
	Bench    string `json:"bench,omitempty"`    // the bench file
	Files    []File `json:"files,omitempty"`    // what was read for it
	Claim    *Claim `json:"claim,omitempty"`    // of the unit, where several stations work through a batch

	Began time.Time `json:"-"` // the time of the head; now if it is zero
}

// Claim is a station's word that it does a unit of a batch which lies in a ledger.
type Claim struct {
	Batch   string `json:"batch"`
	Unit    string `json:"unit"`
	Station string `json:"station"`
	Token   int64  `json:"token"` // grows with each claim of the unit: a lower one is old
}

// Drawn is a value that was taken from a pool in the ledger, which gives each out once.
type Drawn struct {
	Pool  string `json:"pool"`
	Value string `json:"-"`    // it stands among the inputs, unless it is a secret
	Unit  string `json:"unit"` // that it was given to
	Name  string `json:"name"` // of the input
	Draw  int64  `json:"draw"` // grows each time the value is given out
	Clear bool   `json:"-"`    // it is a secret that lies in the ledger as it is
	// Unused is that nothing was worked out with it, so that no line which holds it can have
	// been said.
	Unused bool `json:"unused,omitempty"`
}

// Outcome is the value of a Verdict event, where there is more to tell than the verdict.
type Outcome struct {
	Drawn []Drawn `json:"drawn,omitempty"`
}

// File is a file that was used, as it was then.
type File struct {
	Path   string `json:"path"`
	SHA256 Digest `json:"sha256"`
}

// NewOrigin is the origin of a run that begins here and now, with the checksums
// of the files that it uses; empty and repeated names are passed over.
func NewOrigin(tool, command string, files ...string) (Origin, error) {
	o := Origin{Version: version, Tool: tool, Run: newRun(), Command: command, System: runtime.GOOS + "/" + runtime.GOARCH}
	if name, err := os.Hostname(); err == nil {
		o.Machine = name
	}
	if u, err := user.Current(); err == nil {
		o.Operator = u.Username
	}
	seen := map[string]bool{"": true}
	for _, path := range files {
		if seen[path] {
			continue
		}
		seen[path] = true
		text, err := source.ReadFile(path)
		if err != nil {
			return o, fmt.Errorf("take the checksum of %s: %w", path, err)
		}
		o.Files = append(o.Files, File{path, Sum(text)})
	}
	return o, nil
}

// newRun is a name that no other run has.
func newRun() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// Digest is a SHA-256 in hexadecimal digits.
type Digest string

// UnmarshalText takes nothing but such digits.
func (d *Digest) UnmarshalText(text []byte) error {
	if len(text) > 2*sha256.Size || len(strings.Trim(string(text), "0123456789abcdef")) > 0 {
		return fmt.Errorf("%q is no SHA-256 in hexadecimal digits", text)
	}
	*d = Digest(text)
	return nil
}

// Sum is the SHA-256 of bytes.
func Sum(b []byte) Digest {
	s := sha256.Sum256(b)
	return Digest(hex.EncodeToString(s[:]))
}

// NewFile makes a file that only its owner may read, under a name that is free:
// where name.txt exists it is name-2.txt. Nothing is ever overwritten; a device,
// such as /dev/null, is opened as it is.
func NewFile(path string) (*os.File, error) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return os.OpenFile(path, os.O_WRONLY, 0)
	}
	ext := filepath.Ext(path)
	base := strings.TrimSuffix(path, ext)
	for n := 2; ; n++ {
		f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
		if !os.IsExist(err) {
			return f, err
		}
		path = fmt.Sprintf("%s-%d%s", base, n, ext)
	}
}
