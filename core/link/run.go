package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Plan says how a link is to be tested.
type Plan struct {
	Count    int           // frames in each direction, at least 1
	Every    time.Duration // from one frame to the next
	Size     int           // bytes in a frame, at least MinSize
	Both     bool          // also from the second end to the first, at the same time
	Deadline time.Duration // later frames are late; so long the end waits for stragglers
	Limits   Limits
	Sure     bool          // stop as soon as the limits are decided; Count is then the most
	MaxTime  time.Duration // stop then in any case; 0 is no limit
	Seed     uint64        // of the run's number; 0 draws one
}

// Test is a link test between two ends.
type Test struct {
	Plan
	A, B    *station.Station
	Record  *record.Writer               // nil keeps none
	Observe func([]Progress)             // told a few times a second; may be nil
	Row     func(from, to string, r Row) // told of each frame when it is settled; may be nil
	Nap     pace.Nap                     // nil means pace.Precise

	// Open are conversations that are open already, by the names of the ports.
	// The test borrows them and leaves them as they were.
	Open map[string]*dialog.Dialog
}

// Progress is how far one direction of a test has come.
type Progress struct {
	From, To       string
	Sent, Received int
	Mean           time.Duration // latency so far; 0 if nothing has arrived
}

// Check says what is wrong with the plan before a port is opened.
func (t *Test) Check() error {
	for _, s := range []*station.Station{t.A, t.B} {
		c := carrierOf(s)
		if c == nil {
			continue
		}
		if t.Size > c.Greatest {
			return fmt.Errorf("a frame of %d bytes is too long for %s: its carrier takes %d at most", t.Size, s.Name, c.Greatest)
		}
		for i := range len(alphabet) {
			if !c.Allows(alphabet[i]) {
				return fmt.Errorf("the carrier of %s does not allow %q, which test frames need: they are letters, digits, - and _", s.Name, alphabet[i])
			}
		}
	}
	switch {
	case t.Size < MinSize:
		return fmt.Errorf("a frame of %d bytes is too short: the least is %d", t.Size, MinSize)
	case t.Count < 1:
		return fmt.Errorf("%d frames are too few: send at least one", t.Count)
	case t.Sure && t.Limits == Limits{}:
		return errors.New("there is no limit to be sure of: give --max-loss or --max-p95")
	case t.Every <= 0:
		return fmt.Errorf("the interval %v is no interval: give one such as 50ms", t.Every)
	}
	return nil
}

// Warnings are odd things about the plan that do not keep it from running.
func (t *Test) Warnings() []string {
	var w []string
	for _, s := range []*station.Station{t.A, t.B} {
		wire := s.Setup.Line().Time(t.spoken(s))
		if wire > t.Every {
			w = append(w, fmt.Sprintf("%s: a frame takes %v on the wire, longer than the interval of %v: frames will be sent later than planned", s.Name, wire.Round(time.Microsecond), t.Every))
		}
	}
	return w
}

// spoken is about how many bytes go out for a frame.
func (t *Test) spoken(s *station.Station) int {
	n := t.Size + len(s.Setup.EndingBytes())
	if c := carrierOf(s); c != nil {
		n += len(c.Send) - len("{payload}")
	}
	return n
}

func carrierOf(s *station.Station) *phrasebook.Carrier {
	if s.Phrasebook == nil {
		return nil
	}
	return s.Phrasebook.Carrier
}

// end is one side of the link at work.
type end struct {
	*station.Station
	carrier *phrasebook.Carrier // nil: plain bytes
	dialog  *dialog.Dialog
	before  *dialog.Config // of a dialog that was borrowed
	line    uart.Line
	address string // as its peer must name it; "" if the carrier needs none

	test     *Test
	run      uint32
	listenTo byte // the way whose frames arrive here
	counts   *tally
	outLine  uart.Line              // the peer's
	outBytes atomic.Int64           // that a frame of the peer takes on the peer's line
	peer     atomic.Pointer[string] // the peer's address, for telling its messages from others'
}

// answers is how long a module may take to answer a command.
const answers = 2 * time.Second

// Do opens the ports, tests and closes them again. An error means that the test
// could not be run to its end; the summary then holds what there is.
func (t *Test) Do(ctx context.Context) (Summary, error) {
	if t.Nap == nil {
		t.Nap = pace.Precise
	}
	seed := t.Seed
	if seed == 0 {
		seed = rand.Uint64()
	}
	run := uint32(seed) & 0xffffff
	floor, err := measureFloor()
	if err != nil {
		return Summary{}, err
	}
	began := time.Now()
	sum := Summary{
		FloorMS: floor,
		Kind:    Kind, Version: 1, Run: fmt.Sprintf("%06x", run), Started: began.UTC().Round(time.Millisecond),
		Size: t.Size, EveryMS: float64(t.Every.Microseconds()) / 1000, Limits: t.Limits, Directions: []Direction{},
	}
	over := time.Duration(0)
	if t.Limits.MaxP95MS != nil {
		over = time.Duration(*t.Limits.MaxP95MS * float64(time.Millisecond))
	}
	a := &end{Station: t.A, carrier: carrierOf(t.A), line: t.A.Setup.Line(), test: t, run: run, listenTo: 1}
	b := &end{Station: t.B, carrier: carrierOf(t.B), line: t.B.Setup.Line(), test: t, run: run, listenTo: 0}
	ways := []*way{{from: a, to: b, number: 0}}
	if t.Both {
		ways = append(ways, &way{from: b, to: a, number: 1})
	}
	for _, w := range ways {
		var settled func(Row)
		if t.Row != nil {
			settled = func(r Row) { t.Row(w.from.Name, w.to.Name, r) }
		}
		w.to.counts = newTally(t.Deadline, over, settled)
	}
	err = t.connect(ctx, a, b)
	if err == nil {
		err = t.send(ctx, ways)
	}
	for _, e := range []*end{a, b} {
		switch {
		case e.before != nil:
			e.dialog.Configure(func(c *dialog.Config) { *c = *e.before })
		case e.dialog != nil:
			if ce := e.Close(t.Record, e.dialog); err == nil {
				err = ce
			}
		}
	}
	for _, w := range ways {
		w.to.counts.close()
		d := w.direction()
		d.judge(t.Limits, w.to.counts.overLimit, t.Sure)
		if err != nil {
			d.Verdict = verdict.Broken
			d.Why = append(d.Why, "the test was cut short: "+err.Error())
		}
		sum.Directions = append(sum.Directions, d)
		sum.Verdict = verdict.Worse(sum.Verdict, d.Verdict)
	}
	if err != nil {
		sum.Verdict = verdict.Broken
	}
	sum.TookMS = float64(time.Since(began).Milliseconds())
	data, jerr := json.Marshal(sum)
	if jerr != nil {
		return sum, errors.Join(err, fmt.Errorf("write the summary: %w", jerr))
	}
	t.Record.Event(record.Event{Time: time.Now(), Kind: record.Link, Verdict: string(sum.Verdict), Data: data})
	return sum, err
}

// connect opens both ends and finds out their addresses.
func (t *Test) connect(ctx context.Context, ends ...*end) error {
	for _, e := range ends {
		if e.dialog = t.Open[e.Name]; e.dialog != nil {
			before := e.dialog.Configure(e.adjust)
			e.before = &before
			continue
		}
		var err error
		if e.dialog, err = e.Station.Open(t.Record, e.adjust); err != nil {
			return err
		}
	}
	for i, e := range ends {
		if e.carrier != nil && strings.Contains(e.carrier.Send, "{to}") {
			address, err := e.readAddress(ctx)
			if err != nil {
				return fmt.Errorf("read the address of %s: %w", e.Name, err)
			}
			e.address = address
		}
		e.outLine = ends[1-i].line
	}
	ends[0].peer.Store(&ends[1].address)
	ends[1].peer.Store(&ends[0].address)
	if ends[0].address != "" && ends[0].address == ends[1].address {
		return fmt.Errorf("%s and %s have the same address, %s: give each its own first", ends[0].Name, ends[1].Name, ends[0].address)
	}
	return nil
}

// adjust has every arrival brought to the tally instead of the inbox.
func (e *end) adjust(c *dialog.Config) {
	arrives := pattern.Must("...")
	if e.carrier != nil {
		arrives = e.carrier.ArrivesPattern
	} else {
		c.Dialect, c.Refusals, c.Banner = dialog.Lines, nil, nil
		c.Notices = nil
	}
	c.Notices = append([]*pattern.Pattern{arrives}, c.Notices...)
	c.OnNotice = func(notice int, l dialog.Line, caps []pattern.Capture) bool {
		if notice == 0 {
			e.arrival(l, caps)
		}
		return notice == 0
	}
}

// arrival counts one message that came out of the module.
func (e *end) arrival(l dialog.Line, caps []pattern.Capture) {
	if e.counts == nil {
		return // nothing is expected at this end
	}
	payload, strength, snr := string(l.Text), math.NaN(), math.NaN()
	foreign := false
	for _, c := range caps {
		switch c.Name {
		case "payload":
			payload = c.Text
		case "strength":
			strength = numeric(c.Value)
		case "snr":
			snr = numeric(c.Value)
		case "from":
			if peer := e.peer.Load(); peer != nil {
				foreign = *peer != "" && c.Text != *peer
			}
		}
	}
	f, err := Decode([]byte(payload))
	switch {
	case foreign:
		e.counts.gotForeign(len(payload))
	case err != nil && (e.carrier != nil && len(payload) == e.test.Size || e.carrier == nil && looksDamaged([]byte(payload), e.test.Size)):
		e.counts.gotDamaged()
	case err != nil || f.Run != e.run || f.Way != e.listenTo:
		e.counts.gotForeign(len(payload))
	default:
		wire := e.outLine.Time(int(e.outBytes.Load())) + e.line.Time(l.Wire)
		e.counts.arrived(f.Number, l.Time, wire, strength, snr, len(payload))
	}
}

func numeric(v any) float64 {
	switch v := v.(type) {
	case int:
		return float64(v)
	case float64:
		return v
	}
	return math.NaN()
}

// readAddress asks the module for its own address. Where it does not answer it
// is asked once more after a bare line ending, which clears away what somebody
// else has left in its input.
func (e *end) readAddress(ctx context.Context) (string, error) {
	address, err := e.askAddress(ctx)
	if _, missed := errors.AsType[*dialog.Missed](err); !missed {
		return address, err
	}
	e.dialog.PassAll()
	if _, err := e.dialog.SayBytes(ctx, []byte(e.Setup.EndingBytes())); err != nil {
		return "", err
	}
	return e.askAddress(ctx)
}

func (e *end) askAddress(ctx context.Context) (string, error) {
	s, _ := e.Phrasebook.Setting(e.carrier.Address) // the phrasebook was checked
	if _, err := e.dialog.Say(ctx, s.Read, answers); err != nil {
		return "", err
	}
	h, err := e.dialog.Hear(ctx, dialog.Wait{Pattern: s.AnswerPattern, Within: answers})
	if err != nil {
		return "", err
	}
	for _, c := range h.Captures {
		if c.Name == "value" {
			return fmt.Sprint(c.Value), e.dialog.Settle(ctx, answers)
		}
	}
	return "", errors.New("the answer holds no value")
}

// way is one direction of the test.
type way struct {
	from, to *end
	number   byte
	refused  int
}

func (w *way) direction() Direction {
	d := w.to.counts.direction(w.from.Name, w.to.Name)
	d.Refused = w.refused
	return d
}

// send sends in all directions at once, then waits for stragglers.
func (t *Test) send(ctx context.Context, ways []*way) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var senders sync.WaitGroup
	start := time.Now().Add(20 * time.Millisecond)
	enough := func() bool {
		now := time.Now()
		if t.MaxTime > 0 && now.Sub(start) >= t.MaxTime {
			return true
		}
		for _, w := range ways {
			if !t.Sure || !w.to.counts.decided(now, t.Limits) {
				return false
			}
		}
		return true
	}
	for _, w := range ways {
		senders.Go(func() {
			if err := w.sendAll(ctx, t, start, enough); err != nil {
				cancel(err)
			}
		})
	}
	for _, e := range []*end{ways[0].from, ways[0].to} {
		go func() { // a port that vanishes ends the test
			select {
			case <-e.dialog.Done():
				cancel(e.dialog.Err())
			case <-ctx.Done():
			}
		}()
	}
	done := make(chan struct{})
	go func() {
		senders.Wait()
		for _, w := range ways {
			w.waitForStragglers(ctx, t.Deadline)
		}
		close(done)
	}()
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-done:
			t.progress(ways)
			return context.Cause(ctx)
		case <-tick.C:
			t.progress(ways)
		}
	}
}

func (t *Test) progress(ways []*way) {
	if t.Observe == nil {
		return
	}
	var all []Progress
	for _, w := range ways {
		all = append(all, w.to.counts.progress(w.from.Name, w.to.Name))
	}
	t.Observe(all)
}

// lookEvery is after how many frames it is asked whether they are enough.
const lookEvery = 8

// givenUp is how many commands in a row a module may leave unanswered before the
// test is given up.
const givenUp = 5

func (w *way) sendAll(ctx context.Context, t *Test, start time.Time, enough func() bool) error {
	d, unanswered := w.from.dialog, 0
	for i := range t.Count {
		if i%lookEvery == 0 && i > 0 && enough() {
			return nil
		}
		planned := start.Add(time.Duration(i) * t.Every)
		if !pace.Until(ctx, planned, t.Nap, nil) {
			return context.Cause(ctx)
		}
		text, err := w.text(uint32(i), t.Size)
		if err != nil {
			return err
		}
		w.to.outBytes.Store(int64(len(text) + 1)) // the module acts on the first byte of the line ending
		w.to.counts.sent(planned, time.Now())
		if w.from.carrier == nil {
			if _, err := d.SayBytes(ctx, []byte(text+plainEnd)); err != nil {
				return err
			}
			continue
		}
		if _, err = d.Say(ctx, text, answers); err == nil {
			err = d.Settle(ctx, answers)
		}
		refused, isRefused := errors.AsType[*dialog.Refused](err)
		missed, isMissed := errors.AsType[*dialog.Missed](err)
		switch {
		case isRefused && i == 0:
			why := w.from.Phrasebook.Explain(refused.Heard)
			if why != "" {
				why = " (" + why + ")"
			}
			return fmt.Errorf("%s refused the first frame: said %s, heard %s%s", w.from.Name, refused.Said, refused.Heard, why)
		case isRefused:
			w.refused++
		case isMissed:
			w.refused++
			if unanswered++; unanswered == givenUp {
				return fmt.Errorf("%s left %d commands in a row unanswered: %w", w.from.Name, givenUp, missed)
			}
			continue
		case err != nil:
			return err
		}
		unanswered = 0
	}
	return nil
}

// plainEnd ends a frame where there is no carrier.
const plainEnd = "\n"

// text is the words that send a frame.
func (w *way) text(number uint32, size int) (string, error) {
	payload := string(Frame{Way: w.number, Run: w.from.run, Number: number}.Append(nil, size))
	if w.from.carrier == nil {
		return payload, nil
	}
	return w.from.carrier.SendSaid.Fill(func(name string) (string, error) {
		switch name {
		case "to":
			return w.to.address, nil
		case "length":
			return strconv.Itoa(len(payload)), nil
		}
		return payload, nil
	})
}

// waitForStragglers waits until the deadline of the last frame, or until all
// have arrived and so much time has passed that no second copies are on their
// way.
func (w *way) waitForStragglers(ctx context.Context, deadline time.Duration) {
	t := w.to.counts
	limit := time.NewTimer(deadline)
	defer limit.Stop()
	for t.waiting() > 0 {
		select {
		case <-t.news:
		case <-limit.C:
			return
		case <-ctx.Done():
			return
		}
	}
	tail := time.NewTimer(min(deadline, max(250*time.Millisecond, 2*t.longest())))
	defer tail.Stop()
	select {
	case <-tail.C:
	case <-ctx.Done():
	}
}
