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
)

// Version is the version of the format, in the head of every record. Version 1
// had neither checksums nor a closing line.
const Version = 2

// The kinds of event.
const (
	Head    = "record"  // first: an Origin
	Open    = "open"    // a port was opened
	Close   = "close"   // a port was closed
	In      = "in"      // bytes came
	Out     = "out"     // bytes went
	Passed  = "passed"  // a line that no statement took
	Begin   = "begin"   // a procedure begins
	Step    = "step"    // a step begins, or ends with its verdict
	Try     = "try"     // a try of a step failed and another follows
	Check   = "check"   // a check was made
	Limit   = "limit"   // a value was held against limits
	Frame   = "frame"   // what became of one frame of a link run
	Link    = "link"    // the summary of a link run
	Result  = "result"  // what a test found that is none of frames
	Kept    = "kept"    // a value was kept as a file
	Told    = "told"    // the operator was told something, or asked and has answered
	Changed = "changed" // a port's line settings or signals were changed
	Verdict = "verdict" // the verdict of the whole run
	Note    = "note"    // anything else worth knowing
	End     = "end"     // last: the record is whole
)

// lasting are the kinds that carry a checksum, and a verdict that must survive a
// failing machine.
var lasting = map[string]bool{Step: true, Try: true, Limit: true, Link: true, Result: true, Verdict: true, End: true}

// Event is one line of a record. Which fields are set depends on the kind.
type Event struct {
	Time    time.Time       `json:"t"`
	Kind    string          `json:"kind"`
	Port    string          `json:"port,omitempty"`
	Text    string          `json:"text,omitempty"` // bytes that are valid UTF-8, or words
	Hex     string          `json:"hex,omitempty"`  // bytes that are not
	Step    string          `json:"step,omitempty"`
	Try     int             `json:"try,omitempty"`
	Verdict string          `json:"verdict,omitempty"`
	Why     string          `json:"why,omitempty"`
	TookMS  float64         `json:"took_ms,omitempty"`
	Data    json.RawMessage `json:"data,omitempty"`
	Sum     string          `json:"sum,omitempty"` // SHA-256 of all bytes before this line
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

	Began time.Time `json:"-"` // the time of the head; now if it is zero
}

// File is a file that was used, as it was then.
type File struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"` // hexadecimal
}

// NewOrigin is the origin of a run that begins here and now, with the checksums
// of the files that it uses; empty and repeated names are passed over.
func NewOrigin(tool, command string, files ...string) (Origin, error) {
	o := Origin{Version: Version, Tool: tool, Run: NewRun(), Command: command, System: runtime.GOOS + "/" + runtime.GOARCH}
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
		text, err := os.ReadFile(path)
		if err != nil {
			return o, fmt.Errorf("take the checksum of %s: %w", path, err)
		}
		o.Files = append(o.Files, File{path, Sum(text)})
	}
	return o, nil
}

// NewRun is a name that no other run has.
func NewRun() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// Sum is the SHA-256 of bytes in hexadecimal.
func Sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
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
