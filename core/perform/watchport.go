package perform

import (
	"context"
	"fmt"
	"time"

	"uparrot/core/record"
)

// lookEvery is how often a watch looks what has stopped.
const lookEvery = time.Second

// lateTold is by how much this machine may be late before that is told.
const lateTold = 500 * time.Millisecond

// wasLate tells that this machine was late: what came meanwhile has the time at which it was read.
func (w *watching) wasLate(now time.Time, by time.Duration) {
	if by < lateTold {
		return
	}
	if by > w.late {
		w.late, w.lateAt = by, now
	}
	w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("this machine was late by %v at %s: what came then may have come earlier", by.Round(time.Millisecond), clock(now))})
}

// hasGone takes in that a port has gone away.
func (w *watching) hasGone(name string, why error) {
	if w.away == nil {
		w.away, w.gone = map[string]time.Time{}, map[string]*absence{}
	}
	if _, already := w.away[name]; already {
		return
	}
	w.away[name] = time.Now()
	if w.gone[name] == nil {
		w.gone[name] = &absence{}
	}
	w.gone[name].times++
	_ = w.run.Stations[name].Close(w.run.Events, w.dialogs[name]) // it has gone already
	w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s has gone: %v", name, why), Value: record.Mark{Word: name + " gone"}})
}

// comeBack opens ports that have come back, and returns their names.
func (w *watching) comeBack(ctx context.Context) (back []string) {
	for name, since := range w.away {
		d, err := w.run.Stations[name].Open(ctx, w.run.Events, nil)
		if err != nil {
			continue // not yet: that it is away has been told
		}
		gap := time.Since(since)
		w.dialogs[name] = d
		w.dropped[name] = d.Dropped()
		w.gone[name].long += gap
		delete(w.away, name)
		w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s has come back, after %v in which nothing could be heard", name, gap.Round(100*time.Millisecond)), Value: record.Mark{Word: name + " back"}})
		back = append(back, name)
	}
	return back
}

// absences tells, in the end, of ports that were away, and of one that still is.
func (w *watching) absences(now time.Time, wrong func(string, ...any)) {
	for name, of := range w.gone {
		since, away := w.away[name]
		long := of.long
		if away {
			long += now.Sub(since)
			wrong("%s has gone at %s, and did not come back", name, clock(since))
		}
		w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s was away %d times, for %v in all", name, of.times, long.Round(100*time.Millisecond))})
	}
	if w.late > 0 {
		w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("this machine was late by up to %v, at %s", w.late.Round(time.Millisecond), clock(w.lateAt))})
	}
}
