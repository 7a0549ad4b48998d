package link

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"uparrot/core/bench"
	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// Test is a link test between two ends. It tells its stream of progress (a
// []Progress), of each frame when it is settled (a FrameSeen) and, sealed, of its
// summary.
type Test struct {
	Plan
	A, B   *bench.Station // without B it is a round trip: the far end of A repeats every frame, or its line is looped
	Events *record.Stream // nil tells nobody
	Sleep  pace.Sleep     // nil means pace.Precise

	// Dialogs are conversations that are open already, by the names of the ports.
	// The test borrows them and leaves them as they were.
	Dialogs map[string]*dialog.Dialog

	// Walk sorts the frames into stretches; nil for none.
	Walk *Walk
	// Stop ends the test when it is closed, as if all had been sent; may be nil.
	Stop <-chan struct{}
	// Checkpoint is told once a minute, and at the end, how far the test has come; may be nil. An
	// error ends the test.
	Checkpoint func(Checkpoint) error
	// Resume goes on from a checkpoint of the same plan; nil begins anew.
	Resume *Checkpoint

	// Least is how many frames are sent before a sure test may end.
	Least int
}

// Progress is how far one direction of a test has come.
type Progress struct {
	From, To       string
	Sent, Received int
	Mean           time.Duration // latency so far; 0 if nothing has arrived
	Missed         int           // of those older than the deadline
	Silent         Outage        // the stretch of these that is lost at present; of no frames if the last has come
	Last           time.Time     // when something arrived last; zero if nothing has
	Strength       float64       // of that, in dBm; NaN if it is not told
	Trend          string        // rising, falling or steady; "" if it is not told
}

// running is a test at work.
type running struct {
	*Test
	run   uint32 // tells its frames from those of others
	began time.Time
	ends  []*end
	ways  []*way
	sum   Summary
}

// Do opens the ports, tests and closes them again. An error means that the test
// could not be run to its end; the summary then holds what there is.
func (t *Test) Do(ctx context.Context) (Summary, error) {
	if t.Sleep == nil {
		t.Sleep = pace.Precise
	}
	r, err := t.prepare()
	if err != nil {
		return r.sum, err
	}
	if err = t.connect(ctx, r.ends...); err == nil {
		r.settlePlan()
		if r.Drain {
			err = r.drain(ctx)
		}
	}
	if err == nil {
		late := watchMachine(ctx, r.Sleep)
		err = r.send(ctx)
		machine := late()
		r.sum.Machine = &machine
	}
	if cerr := r.close(); err == nil {
		err = cerr
	}
	r.seal(err)
	return r.sum, err
}

// prepare makes the ends and the directions of the test.
func (t *Test) prepare() (*running, error) {
	r := &running{Test: t, began: time.Now()}
	seed := t.Seed
	if seed == 0 {
		seed = rand.Uint64()
	}
	if r.run = uint32(seed) & 0xffffff; t.Resume != nil {
		r.run = t.Resume.Run
	}
	floor, err := measureFloor()
	if err != nil {
		return r, err
	}
	r.sum = Summary{
		FloorMS: floor,
		Kind:    Kind, Version: 1, Run: fmt.Sprintf("%06x", r.run), Started: r.began.UTC().Round(time.Millisecond),
		Size: t.Size, EveryMS: ms(t.Every), Limits: t.Limits, Directions: []Direction{},
	}
	a := t.end(t.A, r.run, 1, r.began)
	r.ends = []*end{a}
	if t.B == nil {
		a.listenTo, a.repeats = 0, true
		r.ways = []*way{{from: a, to: a, number: 0}}
	} else {
		b := t.end(t.B, r.run, 0, r.began)
		r.ends = append(r.ends, b)
		r.ways = []*way{{from: a, to: b, number: 0}}
		if t.Both {
			r.ways = append(r.ways, &way{from: b, to: a, number: 1})
		}
	}
	over := time.Duration(0)
	if t.Limits.MaxP95MS != nil {
		over = time.Duration(*t.Limits.MaxP95MS * float64(time.Millisecond))
	}
	for _, w := range r.ways {
		w.to.counts = newTally(t.Count, t.Deadline, over, r.settled(w))
		w.to.counts.sizes = newSizes(t.Sizes)
	}
	if t.Resume != nil {
		return r, r.resume()
	}
	return r, nil
}

// settled is told of each frame of a way whose fate is known; nil if nobody wants
// to know.
func (r *running) settled(w *way) func(Row) {
	if r.Events == nil && r.Walk == nil {
		return nil
	}
	return func(row Row) {
		r.Events.Emit(row.event(w.from.Name, w.toName()))
		if r.Walk != nil {
			r.Walk.Row(w.from.Name, w.toName(), row)
		}
	}
}

// resume goes on from the test's checkpoint.
func (r *running) resume() error {
	if err := r.Resume.Fits(r.Test); err != nil {
		return fmt.Errorf("go on from the checkpoint: %w", err)
	}
	for i, w := range r.ways {
		if err := w.to.counts.restore(r.Resume.Ways[i]); err != nil {
			return err
		}
		w.refused.Store(int64(r.Resume.Ways[i].Refused))
		w.first = int(r.Resume.Ways[i].Next)
	}
	r.sum.Started = r.Resume.Summary.Started
	return nil
}

// settlePlan works out what of the plan follows from the addresses of the ends.
func (r *running) settlePlan() {
	near := r.ways[0]
	if r.Load > 0 {
		r.Every = time.Duration(float64(near.from.line.Time(near.wire(r.Size))) / r.Load)
		r.sum.EveryMS = ms(r.Every)
	}
}

// close ends the conversations, or gives them back as they were.
func (r *running) close() (err error) {
	for _, e := range r.ends {
		switch {
		case e.before != nil:
			e.dialog.Configure(func(c *dialog.Config) { *c = *e.before })
			if e.Binary {
				e.dialog.PassAll() // frames that nobody will hear as lines
			}
		case e.dialog != nil:
			if ce := e.Close(r.Events, e.dialog); err == nil {
				err = ce
			}
		}
		e.decode.Flush() // nothing is fed to it any more
	}
	return err
}

// seal sums the test up and tells of that, once and for all.
func (r *running) seal(err error) {
	sum := &r.sum
	for _, w := range r.ways {
		w.to.counts.close(time.Now(), err != nil)
		d := w.direction()
		d.judge(r.Limits, &w.to.counts.outcomes, w.to.counts.latched, r.Sure)
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
	if r.Walk != nil {
		sum.Stretches = r.Walk.Stretches()
	}
	sum.TookMS = float64(time.Since(r.began).Milliseconds())
	r.Events.Emit(record.Event{Kind: record.Link, Verdict: sum.Verdict, Value: *sum})
}

// ms is a time in milliseconds, to the microsecond.
func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// No frame of an earlier test comes any more when none has for drained and for the
// deadline; longer than drainMost nobody waits.
const (
	drained   = time.Second
	drainMost = 5 * time.Minute
)

// drain waits until frames of earlier tests have ceased to come, and counts none of them.
func (r *running) drain(ctx context.Context) error {
	for began := time.Now(); ; {
		select {
		case <-time.After(max(drained, r.Deadline)):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		strays := 0
		for _, w := range r.ways {
			strays += w.to.counts.forgetForeign()
		}
		switch {
		case strays == 0:
			return nil
		case time.Since(began) > drainMost:
			return fmt.Errorf("frames of an earlier test still come after %v", drainMost)
		}
	}
}

// send sends in all directions at once, then waits for stragglers.
func (t *running) send(ctx context.Context) error {
	ways := t.ways
	ctx, cancel := context.WithCancelCause(ctx)
	var senders, watchers sync.WaitGroup
	defer watchers.Wait()
	defer cancel(nil)
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
			if !t.Sure || !w.to.counts.decided(now, t.Limits, t.Count) {
				return false
			}
		}
		return true
	}
	for _, w := range ways {
		senders.Go(func() {
			if err := w.sendAll(ctx, t.Test, start, enough); err != nil {
				cancel(err)
			}
		})
	}
	watched := []*end{ways[0].from}
	if ways[0].to != ways[0].from {
		watched = append(watched, ways[0].to)
	}
	for _, e := range watched {
		watchers.Go(func() { // a port that vanishes ends the test
			select {
			case <-e.dialog.Done():
				cancel(e.dialog.Err())
			case <-ctx.Done():
			}
		})
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
			if t.Checkpoint != nil && ctx.Err() == nil { // more frames may be wanted
				return t.Checkpoint(t.checkpoint(t.sum, t.run, ways))
			}
			return context.Cause(ctx)
		case <-tick.C:
			t.progress(ways)
			if time.Since(last) >= checkpointEvery {
				last = time.Now()
				if t.Checkpoint == nil {
					continue
				}
				if err := t.Checkpoint(t.checkpoint(t.sum, t.run, ways)); err != nil {
					cancel(err)
				}
			}
		}
	}
}

func (t *running) progress(ways []*way) {
	if !t.Events.Watched() {
		return
	}
	var all []Progress
	for _, w := range ways {
		all = append(all, w.to.counts.progress(w.from.Name, w.toName()))
	}
	t.Events.Emit(record.Event{Kind: record.Progress, Live: all})
}

// checkpointEvery is how often a test tells how far it has come.
const checkpointEvery = time.Minute
