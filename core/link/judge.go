package link

import (
	"fmt"

	"uparrot/core/stats"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// judging is one direction before its judge.
type judging struct {
	*Direction
	limits  Limits
	fates   *outcomes
	latched latched
	sure    bool // the test was to end as soon as its limits were decided
}

// judge sets the verdict and says why. Without a limit nothing was judged.
func (d *Direction) judge(l Limits, f *outcomes, on latched, sure bool) {
	j := judging{d, l, f, on, sure}
	d.Verdict, d.Why = verdict.Measured, []string{}
	d.Judged = Judged{verdict.Measured, verdict.Measured, verdict.Measured}
	if d.Sent == 0 {
		j.add(verdict.Untested, "no frame was sent")
		return
	}
	if d.Received == 0 {
		j.nothing()
	}
	if l.MaxLoss != nil {
		j.loss(*l.MaxLoss)
	}
	if l.MaxP95MS != nil {
		j.latency(*l.MaxP95MS)
	}
	if l.MinDBm != nil {
		j.strength(*l.MinDBm)
	}
	if len(d.Why) == 0 {
		d.Why = append(d.Why, "no limits were given, so there was nothing to judge")
	}
}

func (j *judging) add(v verdict.Verdict, format string, args ...any) {
	j.Verdict = verdict.Worse(j.Verdict, v)
	j.Why = append(j.Why, fmt.Sprintf(format, args...))
}

// nothing says that no frame came, and what came instead.
func (j *judging) nothing() {
	switch {
	case j.UnderWay == j.Sent:
		j.add(verdict.Undecided, "the test was cut short before a frame was due")
	case j.Harmed()+j.Foreign > 0:
		j.add(verdict.Failed, "no whole frame arrived, but %s that are none and %s: are both ends set alike?", text.Count(j.ForeignBytes, "byte"), text.Count(j.Harmed(), "broken frame"))
	default:
		j.add(verdict.Failed, "nothing arrived")
	}
}

// sides are what a share comes to beside its limit, in words.
var sides = map[verdict.Verdict]string{
	verdict.Passed:    "keeps the limit of",
	verdict.Failed:    "breaks the limit of",
	verdict.Undecided: "may be on either side of the limit of",
}

// side is on which side of a limit a share is, with the share that says so, and what the
// words are to add.
func (j *judging) side(r *stats.Runs, on *decision, most float64) (v verdict.Verdict, s stats.Share, more string) {
	if j.sure { // the last frames have come meanwhile
		decide(&on, r, most)
	}
	switch s = r.Share(); {
	case j.sure && on != nil && on.Why != "":
		return on.Verdict, on.Share, fmt.Sprintf("; decided after %d frames: %s", on.Frames, on.Why)
	case j.sure && on != nil: // what was decided on the way stays so
		more = fmt.Sprintf("; decided after %d frames, with bounds that hold however often one looks", on.Frames)
		if on.Every > 0 { // else an earlier version has decided it, which did not tell
			more += fmt.Sprintf("; this holds if stretches of loss come at least every %d frames", on.Every)
		}
		return on.Verdict, on.Share, more
	case j.sure:
		v, s = verdict.Undecided, r.Sequence()
	default:
		v = s.Judge(most)
	}
	switch all := r.FramesInAll(most); {
	case v != verdict.Undecided:
	case j.sure && j.Outage != nil && j.Outage.UntilMS == 0: // more frames would tell nothing of what was before
	case j.sure:
		more = ": more frames would tell"
	case all > r.Frames():
		j.InAll = max(j.InAll, all)
		more = fmt.Sprintf(": about %d frames in all would tell, in four cases of five", all)
	default:
		more = ": it is too near for any number of frames to tell"
	}
	return v, s, more
}

func (j *judging) loss(most float64) {
	v, s, more := j.side(&j.fates.missed, j.latched.Loss, most)
	j.Judged.Loss = v
	j.add(v, "%s lost or late, with 95 %% confidence %s to %s, %s %s%s", stats.Percent(s.Ratio), stats.Percent(s.Low), stats.Percent(s.High), sides[v], stats.Percent(most), more)
}

// latency judges the 95th percentile: it is at most the limit if and only if at most 5 %
// of the frames are above it, and that share has an interval as loss has.
func (j *judging) latency(most float64) {
	v, s, more := j.side(&j.fates.slow, j.latched.P95, p95Share)
	j.Judged.P95 = v
	j.add(v, "%d of %d frames took longer than %v ms or were lost: %s, with 95 %% confidence %s to %s, %s 5 %% that the 95th percentile sets%s",
		j.fates.slow.Lost(), j.fates.slow.Frames(), most, stats.Percent(s.Ratio), stats.Percent(s.Low), stats.Percent(s.High), sides[v], more)
}

// fewestStrengths is under how many values nothing is said of a mean strength.
const fewestStrengths = 3

func (j *judging) strength(least float64) {
	st := j.Strength
	j.Judged.Strength = verdict.Undecided
	switch {
	case st == nil:
		j.add(verdict.Undecided, "the strength is not told, so it cannot be held against %v dBm", least)
		return
	case st.N < fewestStrengths || st.Low == nil:
		j.add(verdict.Undecided, "the strength was told %d times, too few to hold its mean against %v dBm", st.N, least)
		return
	}
	v, words, more := verdict.Undecided, "may be on either side of", ": more frames would tell"
	switch {
	case *st.Low >= least:
		v, words, more = verdict.Passed, "keeps the least of", ""
	case *st.High < least:
		v, words, more = verdict.Failed, "is under the least of", ""
	}
	j.Judged.Strength = v
	j.add(v, "mean strength %.1f dBm, with 95 %% confidence %.1f to %.1f, %s %v dBm%s", st.Mean, *st.Low, *st.High, words, least, more)
}
