package dialog

import (
	"context"
	"fmt"
	"reflect"
	"strings"
	"time"

	"uparrot/core/pattern"
)

// Ask is one thing to wait for at one port. Its Within does not count.
type Ask struct {
	Dialog *Dialog
	Wait
}

// First waits until one of several things comes, at whatever port, and takes
// it. Of what is there already the earliest decides. It returns which one it
// was; errors are those of Hear.
func First(ctx context.Context, asks []Ask, within time.Duration) (int, Heard, error) {
	which, heard := -1, Heard{}
	err := several(ctx, asks, within, false, func(i int, h Heard) bool {
		which, heard = i, h
		return true
	})
	return which, heard, err
}

// All waits until each of several things has come, in any order and at any
// port. One line answers one of them only. Heard is in the order of asks.
func All(ctx context.Context, asks []Ask, within time.Duration) ([]Heard, error) {
	all, left := make([]Heard, len(asks)), len(asks)
	err := several(ctx, asks, within, true, func(i int, h Heard) bool {
		all[i] = h
		left--
		return left == 0
	})
	return all, err
}

// watcher looks at one port for several asks.
type watcher struct {
	*Dialog
	set   *pattern.Set // of those that want lines
	lines []int        // by place in the set: the ask
	bytes []int        // asks that want bytes
	from  int64        // lines before this one are of no use to anybody
	seen  int64        // end of the stream when it was looked at
}

// find is a thing that was asked for and has come.
type find struct {
	ask   int
	at    int64     // where it ends in the port's stream
	time  time.Time // when it came
	line  int       // place in the inbox; -1 for bytes
	text  string    // of the line
	caps  []pattern.Capture
	found bool
}

// several waits for all of the asks, or for any of them.
func several(ctx context.Context, asks []Ask, within time.Duration, all bool, took func(i int, h Heard) (enough bool)) error {
	began := time.Now()
	timer := time.NewTimer(within)
	defer timer.Stop()
	done := make([]bool, len(asks))
	watchers := watch(asks)
	for {
		enough, err := takeAll(watchers, asks, done, took)
		if enough || err != nil {
			return err
		}
		limit := timer.C
		over, which := overSeveral(asks, done, began, all)
		var known *time.Timer
		if over.IsZero() || !over.Before(began.Add(within)) {
			which = -1
		} else {
			known = time.NewTimer(time.Until(over))
			limit = known.C
		}
		late, err := waitSeveral(ctx, watchers, limit)
		if known != nil {
			known.Stop()
		}
		if err != nil {
			return err
		}
		if sure := decidesSeveral(watchers); late && sure.Before(began.Add(within+2*echoSilence)) && time.Now().Before(sure) { // it came in time
			if _, err := waitSeveral(ctx, watchers, time.After(time.Until(sure))); err != nil {
				return err
			}
			timer.Reset(0)
			continue
		}
		if late {
			if enough, err := takeAll(watchers, asks, done, took); enough || err != nil {
				return err
			}
			return missedSeveral(asks, done, which, within, began)
		}
	}
}

// decidesSeveral is when it is known of all what counts.
func decidesSeveral(watchers []*watcher) (last time.Time) {
	for _, w := range watchers {
		w.mu.Lock()
		last = later(last, w.decides())
		w.mu.Unlock()
	}
	return last
}

// overSeveral is when it is known that what is still asked for will not come any more,
// and which ask tells it: zero if it is not known.
func overSeveral(asks []Ask, done []bool, began time.Time, all bool) (over time.Time, which int) {
	which = -1
	for i, a := range asks {
		if done[i] {
			continue
		}
		a.Dialog.mu.Lock()
		at := a.Dialog.overAt(a.Wait, began)
		a.Dialog.mu.Unlock()
		switch {
		case at.IsZero() && !all:
			return at, -1 // this one may still come
		case at.IsZero():
		case which < 0, at.Before(over) == all:
			over, which = at, i
		}
	}
	return over, which
}

func watch(asks []Ask) []*watcher {
	var all []*watcher
	by := map[*Dialog]*watcher{}
	patterns := map[*Dialog][]*pattern.Pattern{}
	for i, a := range asks {
		w := by[a.Dialog]
		if w == nil {
			w = &watcher{Dialog: a.Dialog}
			by[a.Dialog] = w
			all = append(all, w)
		}
		if a.Form == pattern.AnyBytes {
			w.bytes = append(w.bytes, i)
			continue
		}
		w.lines = append(w.lines, i)
		patterns[a.Dialog] = append(patterns[a.Dialog], a.Pattern)
	}
	for _, w := range all {
		w.set = pattern.NewSet(patterns[w.Dialog])
	}
	return all
}

// takeAll takes what has come, the earliest first, until it is enough.
func takeAll(watchers []*watcher, asks []Ask, done []bool, took func(int, Heard) bool) (bool, error) {
	for {
		var first find
		var at *watcher
		for _, w := range watchers {
			w.mu.Lock()
			f := w.look(asks, done)
			w.mu.Unlock()
			// Within one port the place in the stream decides, between ports the time.
			if f.found && (!first.found || f.time.Before(first.time)) {
				first, at = f, w
			}
		}
		if !first.found {
			return false, refusedSeveral(watchers)
		}
		at.mu.Lock()
		h := at.takeFind(first, asks)
		at.mu.Unlock()
		done[first.ask] = true
		if took(first.ask, h) {
			return true, nil
		}
	}
}

// look finds the earliest thing that is still asked for. The mutex is held.
func (w *watcher) look(asks []Ask, done []bool) (best find) {
	w.seen = w.rawAt + int64(len(w.raw))
	open := false // a line is not decided yet
	for i := w.since(w.from); i < len(w.Dialog.lines); i++ {
		l := w.Dialog.lines[i]
		open = open || w.undecided(&l)
		match := func(text []byte) {
			w.set.Match(text, func(place int, caps []pattern.Capture) bool {
				ask := w.lines[place]
				if done[ask] || !asks[ask].suits(l) || !w.mayTake(&asks[ask].Wait, &l) {
					return true
				}
				best = find{ask, l.end, l.Time, i, string(text), caps, true}
				return false
			})
		}
		match(l.Text)
		if !best.found && l.echoed > 0 {
			match(l.answer())
		}
		if best.found {
			break
		}
		if !open {
			w.from = l.num + 1
		}
	}
	for _, ask := range w.bytes {
		if done[ask] {
			continue
		}
		p := asks[ask].Pattern
		start, end, caps := w.find(p, w.parts(asks[ask].Earlier, w.isSaid(p)))
		if at := w.rawAt + int64(end); start >= 0 && (!best.found || at < best.at) {
			best = find{ask, at, w.lastCame, -1, "", caps, true}
		}
	}
	return best
}

// takeFind takes what look has found. Nothing but more bytes can have come since.
func (w *watcher) takeFind(f find, asks []Ask) Heard {
	if f.line < 0 {
		h, _, _ := w.lookBytes(asks[f.ask].Wait)
		return h
	}
	l := w.Dialog.lines[f.line]
	w.from = l.num + 1
	w.takeLine(f.line)
	return Heard{Text: f.text, Time: l.Time, Captures: f.caps}
}

// refusedSeveral is the refusal that one of the ports has met, if any.
func refusedSeveral(watchers []*watcher) error {
	for _, w := range watchers {
		w.mu.Lock()
		err := w.refusal()
		w.mu.Unlock()
		if err != nil {
			return err
		}
	}
	return nil
}

// waitSeveral blocks until something has come at one of the ports.
func waitSeveral(ctx context.Context, watchers []*watcher, timer <-chan time.Time) (late bool, err error) {
	cases := []reflect.SelectCase{
		{Dir: reflect.SelectRecv, Chan: reflect.ValueOf(ctx.Done())},
		{Dir: reflect.SelectRecv, Chan: reflect.ValueOf(timer)},
	}
	for _, w := range watchers {
		w.mu.Lock()
		if w.err != nil {
			w.mu.Unlock()
			return false, w.err
		}
		if w.rawAt+int64(len(w.raw)) != w.seen {
			w.mu.Unlock()
			return false, nil // came while the others were looked at
		}
		if w.changed == nil {
			w.changed = make(chan struct{})
		}
		cases = append(cases, reflect.SelectCase{Dir: reflect.SelectRecv, Chan: reflect.ValueOf(w.changed)})
		w.mu.Unlock()
	}
	switch i, _, _ := reflect.Select(cases); i {
	case 0:
		return false, context.Cause(ctx)
	case 1:
		return true, nil
	}
	return false, nil
}

// missedSeveral tells of the ask that is known not to come any more, or else the first
// that has not come.
func missedSeveral(asks []Ask, done []bool, which int, within time.Duration, began time.Time) error {
	var wanted []string
	first := which
	for i, a := range asks {
		if done[i] {
			continue
		}
		wanted = append(wanted, a.Pattern.String())
		if first < 0 {
			first = i
		}
	}
	if first < 0 {
		return fmt.Errorf("nothing is left to wait for") // several ends before
	}
	d := asks[first].Dialog
	d.mu.Lock()
	defer d.mu.Unlock()
	m := d.missed(strings.Join(wanted, " | "), asks[first].Pattern, within, began)
	if which >= 0 {
		m.Ended = d.ended()
	}
	return m
}
