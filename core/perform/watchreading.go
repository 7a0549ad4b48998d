package perform

import (
	"context"
	"errors"
	"fmt"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// take judges what has come at a port.
func (w *watching) take(ctx context.Context, c came) error {
	if c.heard != nil {
		r := c.which
		if c.heard.Time.Before(w.began) {
			return nil // it tells of what was before
		}
		r.skipped += c.heard.Skipped
		if r.Hear.Packet != nil {
			if err := w.tookPacket(ctx, r.port, r.Hear.Packet, *c.heard); err != nil {
				r.faults++
				r.fault(c.heard.Text, err)
				return nil
			}
		}
		if len(w.polls) == 0 {
			w.next(c.heard.Time)
		}
		return w.reads(ctx, r, c.heard.Time, c.heard.Captures, []byte(c.heard.Text))
	}
	if len(c.lines) > 0 && len(w.polls) == 0 {
		w.next(c.lines[0].Time)
	}
	for i := range c.lines {
		if err := w.line(ctx, c.port, &c.lines[i]); err != nil {
			return err
		}
	}
	switch {
	case c.err == nil:
	case isRefusal(c.err):
		w.refusal(c.port, c.err)
	default:
		return c.err
	}
	return nil
}

// line judges a line, if it is one that is read.
func (w *watching) line(ctx context.Context, port string, l *dialog.Line) error {
	if l.Time.Before(w.began) { // it tells of what was before
		w.passOver(port, l, "it came before the watch began")
		return nil
	}
	for _, r := range w.readings {
		if r.port != port {
			continue
		}
		if r.fast && r.n >= readingsTold {
			if numbers, ok := r.match.Numbers(l.Text, r.numbers); ok {
				r.numbers = numbers
				return w.quick(r, l)
			}
		}
		captures, ok := r.match.Match(l.Text)
		if !ok {
			if answer := l.Answer(); len(answer) < len(l.Text) {
				captures, ok = r.match.Match(answer)
			}
		}
		if ok {
			return w.reads(ctx, r, l.Time, captures, l.Text)
		}
	}
	w.passOver(port, l, "nothing that is watched")
	return nil
}

// passOver tells of a line that no reading took.
func (w *watching) passOver(port string, l *dialog.Line, why string) {
	if w.run.Events.Recording() && !l.Ends() {
		w.emit(record.Event{Time: l.Time, Kind: record.Passed, Port: port, Text: string(l.Text), Why: why})
	}
}

// reads judges one reading.
func (w *watching) reads(ctx context.Context, r *reading, at time.Time, captures []pattern.Capture, text []byte) error {
	r.arrived(w, at)
	w.count++
	w.at, w.heardAt, w.tells = at, r.port, r.n <= readingsTold
	if w.tells && r.Hear.Packet == nil {
		w.emit(record.Event{Time: at, Kind: record.Heard, Port: r.port, Text: string(text)})
	}
	for i := range r.values {
		q := &r.values[i]
		v, ok := number(captures[q.capture].Value)
		if !ok {
			r.fault(string(text), fmt.Errorf("%s is no number", q.name))
			continue
		}
		w.value(r, q, v)
	}
	if r.latest = append(r.latest[:0], text...); len(r.rest) > 0 {
		w.keep(captures, at)
	}
	for _, n := range r.rest {
		if err := w.statement(ctx, n); err != nil {
			if isBroken(err) || errors.Is(err, errEnough) || ctx.Err() != nil {
				return err
			}
			r.fault(string(text), w.locate(n.At(), err))
			break
		}
	}
	if w.count == w.times {
		return errEnough
	}
	return nil
}

// quick judges a line whose numbers have been read.
func (w *watching) quick(r *reading, l *dialog.Line) error {
	r.arrived(w, l.Time)
	w.count++
	w.at, w.heardAt, w.tells = l.Time, r.port, false
	r.latest = append(r.latest[:0], l.Text...)
	for i := range r.values {
		w.value(r, &r.values[i], r.numbers[r.values[i].capture])
	}
	if w.count == w.times {
		return errEnough
	}
	return nil
}

// value takes in one value of a reading.
func (w *watching) value(r *reading, q *quick, v float64) {
	m := q.as
	m.Value, m.At = record.Number(v), w.at
	if m.Judged() && (!m.Value.Finite() || m.Low != nil && v < *m.Low || m.High != nil && v > *m.High) {
		m.Verdict = verdict.Failed
	}
	if q.series == nil {
		q.series = w.newSeries(m, r.port)
		w.gathers.of[seriesOf{node: q.node, ports: fmt.Sprint(w.calls)}] = q.series
	}
	w.gathers.add(w.performer, q.series, m)
	w.tellOne(m)
}

// tellOne tells whoever watches of a value: of the first ones, and of some that are not within
// their limits.
func (w *watching) tellOne(m record.Measurement) {
	if m.Verdict == verdict.Failed && w.outside < readingsTold {
		w.outside++
	} else if !w.tells {
		return
	}
	w.emit(record.Event{Time: m.At, Kind: record.Measured, Text: m.What, Verdict: m.Verdict, Value: m})
}

func number(v any) (float64, bool) {
	switch v := v.(type) {
	case int:
		return float64(v), true
	case float64:
		return v, true
	}
	return 0, false
}

// keep gives the names their values.
func (w *watching) keep(captures []pattern.Capture, at time.Time) {
	for _, c := range captures {
		w.give(c.Name, c.Value, false)
		w.comes(c.Name, "heard")
		w.gaveAt[c.Name] = at
	}
}

// arrived counts a reading and the time since the one before.
func (r *reading) arrived(w *watching, at time.Time) {
	r.silent(w, at)
	if r.told {
		w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s came again at %s, after %v", r.Hear.Pattern, clock(at), at.Sub(r.since(w)).Round(time.Millisecond))})
		r.told = false
	}
	r.n++
	r.last = at
}

// since is when the last one came, or the watch began.
func (r *reading) since(w *watching) time.Time {
	if r.last.IsZero() {
		return w.began
	}
	return r.last
}

// silent takes in how long nothing has come by a time.
func (r *reading) silent(w *watching, now time.Time) {
	if s := now.Sub(r.since(w)); s > r.longest {
		r.longest, r.longAt = s, r.since(w)
	}
}

func clock(t time.Time) string { return t.Format("15:04:05.000") }

// allowed is how long a reading may stay away until that is a finding; 0 if that is not known.
func (r *reading) allowed() time.Duration {
	switch {
	case r.Hear.Within > 0:
		return r.Hear.Within
	case r.n < fewToKnowPace:
		return 0
	}
	return leastSilence
}

// stopped reports whether a reading has stayed away too long by a time.
func (r *reading) stopped(w *watching, now time.Time) bool {
	allowed := r.allowed()
	if r.Hear.Within == 0 && allowed > 0 {
		allowed = max(allowed, timesSilence*r.last.Sub(w.began)/time.Duration(r.n))
	}
	return allowed > 0 && now.Sub(r.since(w)) > allowed
}

// lookForSilence tells what has stopped coming.
func (w *watching) lookForSilence(now time.Time) {
	for _, r := range w.readings {
		if !r.told && r.stopped(w, now) {
			r.told = true
			w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s has stopped: nothing like it since %s", r.Hear.Pattern, clock(r.since(w)))})
		}
	}
}

// fault counts something that was heard and could not be used.
func (r *reading) fault(text string, err error) {
	if r.bad++; r.bad == 1 {
		r.badLine, r.badErr = text, err
	}
}

// until ends the watch where its condition is true.
func (p *performer) until(ctx context.Context, n *procedure.Until) error {
	is, err := p.truth(ctx, n.Cond)
	if err == nil && is {
		err = errEnough
	}
	return err
}

// cameAt is when what is being judged came: now, where that is no reading of a watch.
func (p *performer) cameAt() time.Time {
	if p.watching != nil {
		return p.watching.at
	}
	return time.Now()
}

// leave passes over what has come at the ports since: it was not asked for.
func (w *watching) leave() {
	for _, r := range w.readings { // the names stand for what came last
		if captures, ok := r.match.Match(r.latest); ok && r.n > 0 && r.Hear.Packet == nil {
			w.keep(captures, r.last)
		}
	}
	for port := range w.byPort() {
		if d := w.dialogs[port]; d != nil && !d.Answering() {
			d.PassAll()
		}
	}
}

// judge tells how each reading came, and what of it was wrong.
func (w *watching) judge() error {
	now := time.Now()
	var failed WatchFailed
	wrong := func(format string, values ...any) {
		failed.Why = append(failed.Why, w.mask.Hide(fmt.Sprintf(format, values...)))
	}
	for _, r := range w.readings {
		r.silent(w, now)
		heard := r.Hear.Pattern.String()
		if within := r.Hear.Within; within > 0 && r.n > 0 {
			high := within.Seconds()
			m := record.Measurement{What: "longest silence of " + w.called(r), Unit: "s", Value: record.Number(seconds(r.longest)), High: &high, Verdict: verdict.Passed}
			if r.longest > within {
				m.Verdict = verdict.Failed
				wrong("nothing like %s for %v from %s on, wanted within %v", heard, r.longest.Round(time.Millisecond), clock(r.longAt), within)
			}
			w.measured(m)
		}
		switch {
		case r.n == 0:
			wrong("nothing like %s came in %v", heard, now.Sub(w.began).Round(time.Millisecond))
		case r.Hear.Within == 0 && r.stopped(w, now):
			if !r.told {
				w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s has stopped: nothing like it since %s", heard, clock(r.since(w)))})
			}
			if r.judged {
				wrong("%s stopped coming at %s", heard, clock(r.since(w)))
			}
		}
		if r.skipped > 0 {
			w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%d bytes between those like %s were nothing that is watched", r.skipped, heard)})
		}
		if most := w.node.Broken; most != nil && r.n+r.faults > 0 {
			m := record.Measurement{What: "broken of " + w.called(r), Unit: "%", Value: record.Number(100 * float64(r.bad) / float64(r.n+r.faults)), High: most, Verdict: verdict.Passed}
			if float64(m.Value) > *most {
				m.Verdict = verdict.Failed
			}
			w.measured(m)
			if m.Verdict == verdict.Passed {
				if r.bad > 0 {
					w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%d of %d like %s could not be used, the first %s", r.bad, r.n+r.faults, heard, w.mask.Hide(fmt.Sprintf("%q: %v", text.Middle(r.badLine, 200), w.scrub(r.badErr))))})
				}
				continue
			}
		}
		if r.bad > 0 {
			wrong("%d of %d like %s could not be used, the first %q: %v", r.bad, r.n+r.faults, heard, text.Middle(r.badLine, 200), w.scrub(r.badErr))
		}
	}
	w.absences(now, wrong)
	for port := range w.byPort() {
		if n := w.dialogs[port].Dropped() - w.dropped[port]; n > 0 {
			wrong("%d lines of %s came faster than they could be read, and were not watched; the record has them", n, port)
		}
	}
	for _, q := range w.polls {
		said := w.port(q.Say.Port)
		if q.missed > 0 {
			w.emit(record.Event{Kind: record.Note, Text: fmt.Sprintf("%s was not asked %d times: the answer before had not ended", said, q.missed)})
		}
		if q.unended > 0 {
			wrong("%d answers of %s did not end within %v", q.unended, said, w.run.Procedure.Answers)
		}
		if q.refused > 0 {
			wrong("%s refused %d times, first: %v", said, q.refused, w.scrub(q.refusedBy))
		}
	}
	if len(failed.Why) > 0 {
		return &failed
	}
	return nil
}

// called is a reading in few words: its port, where that has no other.
func (w *watching) called(r *reading) string {
	if len(w.byPort()[r.port]) == 1 {
		return r.port
	}
	return r.Hear.Pattern.String()
}
