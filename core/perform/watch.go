package perform

import (
	"context"
	"errors"
	"math"
	"strings"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/pattern"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// A reading that no time is said for has stopped where nothing came for so long, and for so
// many times as long as it usually takes.
const (
	leastSilence  = 3 * time.Second
	timesSilence  = 10
	fewToKnowPace = 5
)

// manyLines are so many that more may be lost while they gather.
const manyLines = 1000

// readingsTold is how many readings of a sort are told one by one, and as many values outside
// their limits of all.
const readingsTold = 3

// restBetween is how long lines gather before they are looked at: their times are those of
// when they were read.
const restBetween = 20 * time.Millisecond

// watching is a watch that goes on.
type watching struct {
	*performer
	node     *procedure.Watch
	began    time.Time
	ends     time.Time // zero where it has no time of its own
	readings []*reading
	polls    []*poll
	times    int // readings that are wanted; -1 if however many come
	count    int
	outside  int            // values outside their limits that were told one by one
	at       time.Time      // when what is being judged came
	heardAt  string         // where
	dropped  map[string]int // what had fallen out of each port's inbox before
	tells    bool           // whoever watches is told of what is being judged one by one
	round    *rounds
	roundAt  time.Time
	away     map[string]time.Time // ports that have gone, and when
	gone     map[string]*absence  // ... how often and how long, all in all
	late     time.Duration        // by how much this machine was late at most
	lateAt   time.Time
}

// absence is how often a port was away in a watch, and for how long.
type absence struct {
	times int
	long  time.Duration
}

// reading is one sort of thing that is heard.
type reading struct {
	*procedure.Reading
	port    string
	match   *pattern.Pattern
	values  []quick
	rest    []procedure.Node // statements that are performed one by one
	judged  bool
	fast    bool      // only numbers are captured, and nothing else is done with them
	numbers []float64 // of the latest, where it was fast
	latest  []byte    // the line that came last
	n       int
	faults  int // heard, and no reading: a packet that is broken
	last    time.Time
	longest time.Duration // without one, from the beginning of the watch on
	longAt  time.Time     // when that began
	told    bool          // that it has stopped
	skipped int           // bytes between packets
	bad     int           // that could not be used
	badLine string
	badErr  error
}

// quick is a value that stands in what was heard as it is, with limits that are numbers.
type quick struct {
	node    procedure.Node
	name    string
	as      record.Measurement
	series  *gathering
	capture int
}

// poll is one question that is said at a pace.
type poll struct {
	*procedure.Poll
	next      time.Time
	said      time.Time
	missed    int // times that it was not said, since the answer before went on
	unended   int // answers that did not end in time
	refused   int
	refusedBy error
}

// WatchFailed is what was wrong with a watch, beside values outside their limits.
type WatchFailed struct{ Why []string }

func (e *WatchFailed) Error() string { return strings.Join(e.Why, "; ") }

// errEnough ends a watch in good order.
var errEnough = errors.New("the watch is over")

// watch reads values until it is to end.
func (p *performer) watch(ctx context.Context, n *procedure.Watch) error {
	w := &watching{performer: p, node: n, times: -1}
	most, err := p.timeOf(ctx, n.For)
	if err != nil {
		return err
	}
	if n.Times != nil {
		if w.times, err = p.whole(ctx, n.Times, 1, min(1<<40, math.MaxInt)); err != nil {
			return err
		}
	}
	if err := w.prepare(ctx); err != nil {
		return err
	}
	return p.repeated(func() error {
		p.watching = w
		defer func() { p.watching = nil }()
		w.round = &rounds{performer: p, tells: p.gathers.depth == 1}
		err := w.read(ctx, most)
		w.finish(ctx)
		p.gathers.tellAll(p)
		w.round.tell(true)
		w.leave()
		if errors.Is(err, errEnough) {
			err = nil
		}
		if failed := w.judge(); err == nil {
			err = failed
		}
		return err
	})
}

// prepare works out what does not change while it goes on.
func (w *watching) prepare(ctx context.Context) error {
	for _, r := range w.node.Readings {
		bound, err := r.Hear.Pattern.Bind(w.evaluator(ctx, r.Hear.Exprs))
		if err != nil {
			return w.locate(r.Pos, err)
		}
		one := &reading{Reading: r, port: w.port(r.Hear.Port), match: bound}
		for _, n := range r.Body {
			q, ok := quickOf(n, bound)
			if _, limit := n.(*procedure.Limit); limit {
				one.judged = true
			}
			if ok && len(one.rest) == 0 && r.Hear.Packet == nil {
				one.values = append(one.values, q)
			} else {
				one.rest = append(one.rest, n)
			}
		}
		one.fast = bound.Numeric() && len(one.rest) == 0 && r.Hear.Form == pattern.WholeLine
		w.readings = append(w.readings, one)
	}
	for _, n := range w.node.Polls {
		w.polls = append(w.polls, &poll{Poll: n})
	}
	return nil
}

// quickOf is a limit or a note of a captured number alone.
func quickOf(n procedure.Node, heard *pattern.Pattern) (quick, bool) {
	q := quick{node: n, as: record.Measurement{Verdict: verdict.Measured}}
	var of *procedure.Expr
	switch n := n.(type) {
	case *procedure.Limit:
		if of, q.as.What, q.as.Unit, q.as.Verdict = n.Expr, n.What, n.Unit, verdict.Passed; n.Title != nil || n.UnitOf != nil {
			return q, false
		}
		for _, side := range []struct {
			is *procedure.Expr
			to **float64
		}{{n.Low, &q.as.Low}, {n.High, &q.as.High}} {
			if side.is == nil {
				continue
			}
			v, ok := fixed(side.is)
			if !ok {
				return q, false
			}
			*side.to = &v
		}
	case *procedure.NoteValue:
		of, q.as.What, q.as.Unit = n.Expr, n.What, n.Unit
		if n.Identity || n.Title != nil || n.UnitOf != nil {
			return q, false
		}
	default:
		return q, false
	}
	q.name = strings.TrimSpace(of.Source)
	for i, name := range heard.Names() {
		if name.Name == q.name && (name.Type == "num" || name.Type == "int") {
			q.capture = i
			return q, true
		}
	}
	return q, false
}

// fixed is the number that an expression is, if it reads nothing.
func fixed(e *procedure.Expr) (float64, bool) {
	if len(e.Names) > 0 {
		return 0, false
	}
	v, err := e.Run(context.Background(), nil)
	switch v := v.(type) {
	case int:
		return float64(v), err == nil
	case float64:
		return v, err == nil && record.Number(v).Finite()
	}
	return 0, false
}

// came is what a port has told.
type came struct {
	port  string
	lines []dialog.Line
	heard *dialog.Heard // of bytes
	which *reading
	err   error
}

// read takes what comes until it is to end.
func (w *watching) read(ctx context.Context, most time.Duration) error {
	w.began = time.Now()
	w.dropped = map[string]int{}
	for port := range w.byPort() {
		w.dropped[port] = w.dialogs[port].Dropped()
	}
	ctx, cancel := context.WithCancel(ctx)
	told := make(chan came)
	var readers sync.WaitGroup
	defer readers.Wait()
	defer cancel()
	listen := func(port string) {
		d, of := w.dialogs[port], w.byPort()[port]
		readers.Go(func() { w.listen(ctx, port, d, of, told) })
	}
	for port := range w.byPort() {
		listen(port)
	}
	var end <-chan time.Time
	if most > 0 {
		w.ends = w.began.Add(most)
		timer := time.NewTimer(most)
		defer timer.Stop()
		end = timer.C
	}
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	looked := w.began
	again := time.NewTicker(reopenEvery)
	defer again.Stop()
	for _, q := range w.polls {
		q.next = w.began
	}
	for {
		beat, wait := w.nextPoll()
		select {
		case c := <-told:
			err := w.take(ctx, c)
			if port.KindOf(err) == port.Vanished && w.node.Reopen {
				w.hasGone(c.port, err)
				err = nil
			}
			if err != nil {
				return err
			}
		case <-wait:
			if err := w.ask(ctx, beat); err != nil {
				return err
			}
		case <-look.C:
			now := time.Now()
			w.wasLate(now, now.Sub(looked)-lookEvery)
			looked = now
			w.lookForSilence(now)
		case <-again.C:
			for _, name := range w.comeBack(ctx) {
				listen(name)
			}
		case <-end:
			return nil
		case <-w.run.Enough:
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// byPort are the readings of each port.
func (w *watching) byPort() map[string][]*reading {
	of := map[string][]*reading{}
	for _, r := range w.readings {
		of[r.port] = append(of[r.port], r)
	}
	for _, q := range w.polls { // its answers must not fill the inbox
		if port := w.port(q.Say.Port); of[port] == nil {
			of[port] = nil
		}
	}
	return of
}

// listen hands over what comes at a port.
func (w *watching) listen(ctx context.Context, port string, d *dialog.Dialog, of []*reading, told chan<- came) {
	tell := func(c came) bool {
		select {
		case told <- c:
			return c.err == nil || isRefusal(c.err)
		case <-ctx.Done():
			return false
		}
	}
	if asks := bytesOf(d, of); len(asks) > 0 {
		for {
			which, heard, err := dialog.First(ctx, asks, longestTime)
			c := came{port: port, err: err}
			if err == nil {
				c.heard, c.which = &heard, of[which]
			}
			if ctx.Err() != nil || !tell(c) {
				return
			}
		}
	}
	for {
		lines, err := d.Lines(ctx, nil)
		if ctx.Err() != nil || !tell(came{port: port, lines: lines, err: err}) {
			return
		}
		if len(lines) < manyLines && pace.For(ctx, restBetween) != nil {
			return
		}
	}
}

func isRefusal(err error) bool {
	_, ok := errors.AsType[*dialog.Refused](err)
	return ok
}

// bytesOf are the readings of a port that speaks in bytes, as what to wait for.
func bytesOf(d *dialog.Dialog, of []*reading) (asks []dialog.Ask) {
	for _, r := range of {
		if r.Hear.Form == pattern.AnyBytes {
			asks = append(asks, dialog.Ask{Dialog: d, Wait: dialog.Wait{Form: pattern.AnyBytes, Pattern: r.match, Earlier: true}})
		}
	}
	if len(asks) > 0 && len(asks) < len(of) { // lines beside bytes
		asks = asks[:0]
		for _, r := range of {
			asks = append(asks, dialog.Ask{Dialog: d, Wait: dialog.Wait{Form: r.Hear.Form, Pattern: r.match, Earlier: true}})
		}
	}
	return asks
}

// nextPoll is the poll that is to be said next, and what tells when.
func (w *watching) nextPoll() (*poll, <-chan time.Time) {
	var first *poll
	for _, q := range w.polls {
		if first == nil || q.next.Before(first.next) {
			first = q
		}
	}
	if first == nil {
		return nil, nil
	}
	return first, time.After(time.Until(first.next))
}

// ask says a poll, unless the answer before still goes on.
func (w *watching) ask(ctx context.Context, q *poll) error {
	now := time.Now()
	if !w.ends.IsZero() && !now.Before(w.ends) {
		return errEnough
	}
	for q.next = q.next.Add(q.Every); q.next.Before(now); q.next = q.next.Add(q.Every) {
		q.missed++
	}
	name := w.port(q.Say.Port)
	if _, away := w.away[name]; away {
		return nil
	}
	d := w.dialogs[name]
	if w.unanswered(q) {
		q.missed++
		return nil
	}
	if d.Answering() {
		if time.Since(q.said) < w.run.Procedure.Answers {
			q.missed++
			return nil
		}
		q.unended++
		d.GiveUp()
	}
	text, err := w.sayText(ctx, q.Say)
	if err != nil {
		return w.locate(q.Say.Pos, err)
	}
	w.next(now)
	w.acts(name)
	w.emit(record.Event{Kind: record.Said, Port: name, Text: w.shownSaid(text)})
	if q.said = now; q.Say.Bytes {
		_, err = d.SayBytes(ctx, []byte(text))
	} else {
		_, err = d.Say(ctx, text, 0)
	}
	w.saidAt[name] = q.said
	if isRefusal(err) {
		w.refusal(name, err)
		err = nil
	}
	if port.KindOf(err) == port.Vanished && w.node.Reopen { // whoever listens there tells it
		err = nil
	}
	return err
}

// unanswered reports whether a poll whose answer has no end is answered still: by the readings of its port,
// none of which has come since it was said, within the time for an answer.
func (w *watching) unanswered(q *poll) bool {
	name := w.port(q.Say.Port)
	if q.said.IsZero() || w.dialogs[name].EndOfAnswer() != "" || time.Since(q.said) >= w.run.Procedure.Answers {
		return false
	}
	some := false
	for _, r := range w.readings {
		if r.port != name {
			continue
		}
		if some = true; r.last.After(q.said) {
			return false
		}
	}
	return some
}

// finish lets the answers come that polls still wait for: they are those of no later command.
func (w *watching) finish(ctx context.Context) {
	for _, q := range w.polls {
		for w.unanswered(q) && ctx.Err() == nil {
			name, asks := w.port(q.Say.Port), []dialog.Ask{}
			var of []*reading
			for _, r := range w.readings {
				if r.port == name {
					of = append(of, r)
					asks = append(asks, dialog.Ask{Dialog: w.dialogs[name], Wait: dialog.Wait{Form: r.Hear.Form, Pattern: r.match, Earlier: true}})
				}
			}
			which, heard, err := dialog.First(ctx, asks, time.Until(q.said.Add(w.run.Procedure.Answers)))
			if err != nil {
				break // it never came, or the port tells whoever uses it next
			}
			of[which].last = heard.Time
		}
	}
}

// next begins another round where enough time has gone by: a page and an account show some
// of them.
func (w *watching) next(at time.Time) {
	if len(w.polls) == 0 && at.Sub(w.roundAt) < time.Second && !w.roundAt.IsZero() {
		return
	}
	w.roundAt = at
	w.round.next()
}

// refusal counts what was refused.
func (w *watching) refusal(port string, err error) {
	for _, q := range w.polls {
		if w.port(q.Say.Port) == port {
			if q.refused++; q.refused == 1 {
				q.refusedBy = err
			}
			return
		}
	}
}
