package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Plan says how a link is to be tested.
type Plan struct {
	Count    int           // frames in each direction, at least 1
	Every    time.Duration // from one frame to the next
	Size     int           // bytes in a frame; 0 chooses DefaultSize, or MinBinary through a transparent link
	Sizes    []int         // several sizes, taken in turn; Size is then the greatest
	Both     bool          // also from the second end to the first, at the same time
	AirRate  float64       // bits a second in the air, where that is known, for Warnings; 0 is not known
	Preamble time.Duration // before each frame in the air, for Warnings
	Window   int           // frames that may be on their way at once; 0 is no limit
	To       string        // for a round trip: the far end's address, where the carrier needs one
	Deadline time.Duration // later frames are late; so long the end waits for stragglers
	Limits   Limits
	Sure     bool          // stop as soon as the limits are decided; Count is then the most
	MaxTime  time.Duration // stop then in any case; 0 is no limit
	Seed     uint64        // of the run's number; 0 draws one
}

// Test is a link test between two ends.
type Test struct {
	Plan
	A, B    *station.Station             // without B it is a round trip: the far end of A repeats every frame, or its line is looped
	Record  *record.Writer               // nil keeps none
	Observe func([]Progress)             // told a few times a second; may be nil
	Row     func(from, to string, r Row) // told of each frame when it is settled; may be nil
	Nap     pace.Nap                     // nil means pace.Precise

	// Open are conversations that are open already, by the names of the ports.
	// The test borrows them and leaves them as they were.
	Open map[string]*dialog.Dialog

	// Stop ends the test when it is closed, as if all had been sent; may be nil.
	Stop <-chan struct{}
	// Checkpoint is told once a minute how far the test has come; may be nil. An
	// error ends the test.
	Checkpoint func(Checkpoint) error
	// Resume goes on from a checkpoint of the same plan; nil begins anew.
	Resume *Checkpoint

	least int // frames before a sure test may end
}

// Progress is how far one direction of a test has come.
type Progress struct {
	From, To       string
	Sent, Received int
	Mean           time.Duration // latency so far; 0 if nothing has arrived
	Missed         int           // of those older than the deadline
	Last           time.Time     // when something arrived last; zero if nothing has
	Strength       float64       // of that, in dBm; NaN if it is not told
	Trend          string        // rising, falling or steady; "" if it is not told
}

// Check says what is wrong with the plan before a port is opened.
func (t *Test) Check() error {
	least := MinSize
	for _, s := range t.ends() {
		if transparent(s) {
			least = MinBinary
		}
	}
	for _, size := range t.Sizes {
		if size < least {
			return fmt.Errorf("a frame of %d bytes is too short: the least is %d", size, least)
		}
		t.Size = max(t.Size, size)
	}
	if len(t.Sizes) > 0 && t.Resume != nil {
		return errors.New("a test of several sizes cannot go on from a checkpoint")
	}
	if t.Size == 0 {
		t.Size = max(least, DefaultSize)
	}
	for _, s := range t.ends() {
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
	case t.Size < least:
		return fmt.Errorf("a frame of %d bytes is too short: the least is %d", t.Size, least)
	case t.Size > maxSize:
		return fmt.Errorf("a frame of %d bytes is too long: the most is %d", t.Size, maxSize)
	case t.B == nil && t.Both:
		return errors.New("a round trip goes both ways as it is")
	case t.B == nil && carrierOf(t.A) != nil && strings.Contains(carrierOf(t.A).Send, "{to}") && t.To == "":
		return fmt.Errorf("%s sends to an address: say which is the far end's", t.A.Name)
	case t.Count < 1:
		return fmt.Errorf("%d frames are too few: send at least one", t.Count)
	case t.Sure && t.Limits == Limits{}:
		return errors.New("there is no limit to be sure of: give --max-loss or --max-p95")
	case t.Every == 0 && t.Window > 0:
	case t.Every <= 0:
		return fmt.Errorf("the interval %v is no interval: give one such as 50ms", t.Every)
	}
	return nil
}

// DefaultSize is the size of a frame where nothing is said, as far as it is enough.
const DefaultSize = 24

// maxSize is the greatest frame: what the decoder keeps, less its framing.
const maxSize = 4096

// sizeOf is the size of a frame.
func (t *Test) sizeOf(number int) int {
	if len(t.Sizes) == 0 {
		return t.Size
	}
	return t.Sizes[number%len(t.Sizes)]
}

// hasSize reports whether frames of a size are sent.
func (t *Test) hasSize(n int) bool {
	return n == t.Size || slices.Contains(t.Sizes, n)
}

// ends are the stations of the test.
func (t *Test) ends() []*station.Station {
	if t.B == nil {
		return []*station.Station{t.A}
	}
	return []*station.Station{t.A, t.B}
}

// transparent reports whether frames go through as they are, in binary: there is
// no carrier, and the line takes all values of a byte.
func transparent(s *station.Station) bool {
	flow, _ := port.ParseFlow(s.Setup.Flow)
	return carrierOf(s) == nil && s.Setup.Line().Frame.Filled().DataBits == 8 && flow != port.XonXoff
}

// EveryForLoad is the interval at which frames take a share of the first end's
// wire.
func (t *Test) EveryForLoad(share float64) time.Duration {
	return time.Duration(float64(t.A.Setup.Line().Time(t.spoken(t.A))) / share)
}

// Warnings are odd things about the plan that do not keep it from running.
func (t *Test) Warnings() []string {
	var w []string
	if t.Every == 0 {
		return nil
	}
	cannot := func(what string, needs time.Duration, sum string) {
		if needs > t.Every {
			w = append(w, fmt.Sprintf("%s: a frame takes %v (%s), longer than the interval of %v: frames will be sent later than planned, or pile up", what, needs.Round(time.Microsecond), sum, t.Every))
		}
	}
	for _, s := range t.ends() {
		line := s.Setup.Line()
		cannot("the wire of "+s.Name, line.Time(t.spoken(s)), fmt.Sprintf("%d bytes at %v", t.spoken(s), line))
	}
	if t.AirRate > 0 || t.Preamble > 0 {
		air := t.Preamble
		if t.AirRate > 0 {
			air += time.Duration(float64(8*t.Size) / t.AirRate * float64(time.Second))
		}
		cannot("the air", air, fmt.Sprintf("preamble of %v and %d bytes at %g bit/s", t.Preamble, t.Size, t.AirRate))
	}
	return w
}

// spoken is about how many bytes go out for a frame.
func (t *Test) spoken(s *station.Station) int {
	if transparent(s) {
		return framedSize(t.Size)
	}
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

	binary   bool // frames go as they are
	decode   decoder
	test     *Test
	start    time.Time // of the run, for the times in frames
	run      uint32
	listenTo byte // the way whose frames arrive here
	counts   *tally
	outLine  uart.Line              // the peer's
	outBytes atomic.Int64           // that a frame of the peer takes on the peer's line
	peer     atomic.Pointer[string] // the peer's address, for telling its messages from others'
	repeats  bool                   // frames come back to this very end
	far      string                 // the far end's address then
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
	if t.Resume != nil {
		run = t.Resume.Run
	}
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
	a := t.end(t.A, run, 1, began)
	all := []*end{a}
	ways := []*way{}
	if t.B == nil {
		a.listenTo, a.repeats = 0, true
		ways = append(ways, &way{from: a, to: a, number: 0})
	} else {
		b := t.end(t.B, run, 0, began)
		all = append(all, b)
		ways = append(ways, &way{from: a, to: b, number: 0})
		if t.Both {
			ways = append(ways, &way{from: b, to: a, number: 1})
		}
	}
	for _, w := range ways {
		var settled func(Row)
		if t.Row != nil {
			settled = func(r Row) { t.Row(w.from.Name, w.toName(), r) }
		}
		w.to.counts = newTally(t.Deadline, over, settled)
		w.to.counts.sizes = newSizes(t.Sizes)
	}
	if t.Resume != nil {
		if len(t.Resume.Ways) != len(ways) {
			return sum, errors.New("the checkpoint is of a test with other directions")
		}
		for i, w := range ways {
			if err := w.to.counts.restore(t.Resume.Ways[i]); err != nil {
				return sum, err
			}
			w.refused.Store(int64(t.Resume.Ways[i].Refused))
			w.first = int(t.Resume.Ways[i].Next)
		}
		sum.Started = t.Resume.Summary.Started
	}
	err = t.connect(ctx, all...)
	if err == nil {
		err = t.send(ctx, ways, func() error {
			if t.Checkpoint == nil {
				return nil
			}
			return t.Checkpoint(t.checkpoint(sum, run, ways))
		})
	}
	for _, e := range all {
		e.decode.flush()
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

// end makes one side of the link ready.
func (t *Test) end(s *station.Station, run uint32, listenTo byte, start time.Time) *end {
	e := &end{Station: s, carrier: carrierOf(s), line: s.Setup.Line(), test: t, run: run, listenTo: listenTo, start: start, binary: transparent(s)}
	e.decode.whole = e.came
	e.decode.broken = func(size int) {
		if e.counts == nil {
			return
		}
		// What has about a frame's length was one; the rest is somebody else's.
		if most := framedSize(t.Size); size > most/2 && size <= most {
			e.counts.gotDamaged()
		} else {
			e.counts.gotForeign(size)
		}
	}
	return e
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
	far := ends[len(ends)-1]
	if t.B == nil {
		far = &end{Station: t.A, line: t.A.Setup.Line(), address: t.To}
	}
	for _, e := range ends {
		if e.carrier != nil && strings.Contains(e.carrier.Send, "{to}") {
			address, err := e.readAddress(ctx)
			if err != nil {
				return fmt.Errorf("read the address of %s: %w", e.Name, err)
			}
			e.address = address
		}
	}
	near := ends[0]
	near.outLine, far.outLine = far.line, near.line
	near.peer.Store(&far.address)
	far.peer.Store(&near.address)
	if t.B == nil {
		near.far = t.To
	}
	if near.address != "" && near.address == far.address {
		return fmt.Errorf("%s and %s have the same address, %s: give each its own first", near.Name, far.Name, near.address)
	}
	return nil
}

// adjust has every arrival brought to the tally instead of the inbox.
func (e *end) adjust(c *dialog.Config) {
	if e.binary {
		bytesOnly(c, e.decode.feed)
		return
	}
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

// came counts one whole binary frame.
func (e *end) came(at time.Time, f stamped, size int) {
	if e.counts == nil {
		return // nothing is expected at this end
	}
	if f.Run != e.run || !e.expects(f.Way) {
		e.counts.gotForeign(framedSize(size))
		return
	}
	bytes := framedSize(size)
	wire := e.outLine.Time(bytes) + e.line.Time(bytes)
	if f.Way&answered != 0 { // what the far end took is not the link's
		at = at.Add(-time.Duration(max(0, f.FarWent-f.FarCame)) * time.Microsecond)
		wire *= 2
	}
	e.counts.arrived(f.Number, at, wire, math.NaN(), math.NaN(), bytes)
}

// expects reports whether frames of a way arrive at this end: on a round trip also
// those that a far end has marked as answered.
func (e *end) expects(way byte) bool {
	return way == e.listenTo || e.repeats && way == e.listenTo|answered
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
	case err != nil && (e.carrier != nil && e.test.hasSize(len(payload)) || e.carrier == nil && looksDamaged([]byte(payload), e.test.Size)):
		e.counts.gotDamaged()
	case err != nil || f.Run != e.run || !e.expects(f.Way):
		e.counts.gotForeign(len(payload))
	default:
		wire := e.outLine.Time(int(e.outBytes.Load())) + e.line.Time(l.Wire)
		at := l.Time
		if f.Way&answered != 0 {
			came, went := farTimes([]byte(payload))
			at = at.Add(-time.Duration(max(0, went-came)) * time.Microsecond)
			wire *= 2 // the far end's lines are taken to be like these
		}
		e.counts.arrived(f.Number, at, wire, strength, snr, len(payload))
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
	refused  atomic.Int64
	first    int // number of the first frame, after a checkpoint
	frame    []byte
}

func (w *way) direction() Direction {
	d := w.to.counts.direction(w.from.Name, w.toName())
	d.Refused = int(w.refused.Load())
	return d
}

// toName is where the frames of a way arrive, in words.
func (w *way) toName() string {
	if w.to.repeats {
		return "the far end and back"
	}
	return w.to.Name
}

// send sends in all directions at once, then waits for stragglers.
func (t *Test) send(ctx context.Context, ways []*way, checkpoint func() error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var senders sync.WaitGroup
	start := time.Now().Add(20 * time.Millisecond)
	enough := func() bool {
		now := time.Now()
		if t.MaxTime > 0 && now.Sub(start) >= t.MaxTime {
			return true
		}
		select {
		case <-t.Stop:
			return true
		default:
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
	watched := []*end{ways[0].from}
	if ways[0].to != ways[0].from {
		watched = append(watched, ways[0].to)
	}
	for _, e := range watched {
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
	last := time.Now()
	for {
		select {
		case <-done:
			t.progress(ways)
			return context.Cause(ctx)
		case <-tick.C:
			t.progress(ways)
			if time.Since(last) >= checkpointEvery {
				last = time.Now()
				if err := checkpoint(); err != nil {
					cancel(err)
				}
			}
		}
	}
}

func (t *Test) progress(ways []*way) {
	if t.Observe == nil {
		return
	}
	var all []Progress
	for _, w := range ways {
		all = append(all, w.to.counts.progress(w.from.Name, w.toName()))
	}
	t.Observe(all)
}

// checkpointEvery is how often a test tells how far it has come.
const checkpointEvery = time.Minute

// lookEvery is after how many frames it is asked whether they are enough.
const lookEvery = 8

// givenUp is how many commands in a row a module may leave unanswered before the
// test is given up.
const givenUp = 5

func (w *way) sendAll(ctx context.Context, t *Test, start time.Time, enough func() bool) error {
	d, unanswered := w.from.dialog, 0
	for i := w.first; i < t.Count; i++ {
		if (i%lookEvery == 0 || t.Stop != nil) && i > t.least && enough() {
			return nil
		}
		planned := start.Add(time.Duration(i-w.first) * t.Every)
		if t.Every == 0 {
			planned = time.Now()
		}
		if !pace.Until(ctx, planned, t.Nap, nil) {
			return context.Cause(ctx)
		}
		if t.Window > 0 && !w.to.counts.room(ctx, t.Window) {
			return context.Cause(ctx)
		}
		if w.from.binary {
			now := time.Now()
			w.to.counts.sent(planned, now)
			f := stamped{Frame: Frame{Way: w.number, Run: w.from.run, Number: uint32(i)}, Planned: planned.Sub(w.from.start).Microseconds(), Sent: now.Sub(w.from.start).Microseconds()}
			w.frame = f.append(w.frame[:0], t.sizeOf(i))
			if _, err := d.SayBytes(ctx, w.frame); err != nil {
				return err
			}
			continue
		}
		text, err := w.text(uint32(i), t.sizeOf(i))
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
		case isRefused && i == w.first:
			why := w.from.Phrasebook.Explain(refused.Heard)
			if why != "" {
				why = " (" + why + ")"
			}
			return fmt.Errorf("%s refused the first frame: said %s, heard %s%s", w.from.Name, refused.Said, refused.Heard, why)
		case isRefused:
			w.refused.Add(1)
		case isMissed:
			w.refused.Add(1)
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
	to := w.to.address
	if w.to.repeats {
		to = w.to.far
	}
	return command(w.from.carrier, to, payload)
}

// command is the words that send a payload through a carrier.
func command(c *phrasebook.Carrier, to, payload string) (string, error) {
	return c.SendSaid.Fill(func(name string) (string, error) {
		switch name {
		case "to":
			return to, nil
		case "length":
			return strconv.Itoa(len(payload)), nil
		}
		return payload, nil
	})
}

// bytesOnly has a dialog hand on what comes as it is.
func bytesOnly(c *dialog.Config, feed func(at time.Time, b []byte)) {
	c.Dialect, c.Refusals, c.Banner, c.Notices, c.OnNotice = dialog.Bytes, nil, nil, nil, nil
	trace := c.Trace
	c.Trace = func(t dialog.Trace) {
		if trace != nil {
			trace(t)
		}
		if t.Kind == dialog.Came {
			feed(t.Time, t.Bytes)
		}
	}
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
