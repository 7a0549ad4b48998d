package link

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pace"
	"uparrot/core/record"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

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
		if t.Row != nil || t.Record != nil {
			settled = func(r Row) {
				if t.Record != nil {
					t.Record.Event(r.event(w.from.Name, w.toName()))
				}
				if t.Row != nil {
					t.Row(w.from.Name, w.toName(), r)
				}
			}
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
			if e.binary {
				e.dialog.PassAll() // frames that nobody will hear as lines
			}
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
