package report

import (
	"fmt"
	"strings"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/stats"
	"uparrot/core/text"
)

// LinkRows are what a link test found in one direction, in words: names and what
// they came to.
func LinkRows(sum link.Summary, d link.Direction) [][2]string {
	under := ""
	if d.Lost > 0 {
		under = fmt.Sprintf(" (%d came damaged, %d cut, %d merged)", d.Damaged, d.Cut, d.Merged)
	}
	if d.UnderWay > 0 {
		under += fmt.Sprintf(", %d still under way when it was cut short", d.UnderWay)
	}
	rows := [][2]string{
		{"frames", fmt.Sprintf("%d sent, %d received, %d lost%s", d.Sent, d.Received, d.Lost, under)},
		{"anomalies", fmt.Sprintf("%d late, %d duplicated, %d reordered, %d foreign (%d bytes)", d.Late, d.Duplicated, d.Reordered, d.Foreign, d.ForeignBytes)},
		{"loss", lossWords(d)},
	}
	if d.Late > 0 {
		rows = append(rows, [2]string{"lost or late", Share(d.LostOrLate)})
	}
	if d.Doubt != "" {
		rows = append(rows, [2]string{"not sure", d.Doubt})
	}
	if d.Outage != nil {
		rows = append(rows, [2]string{"outage", d.Outage.Words()})
	}
	if d.LatencyMS != nil {
		rows = append(rows, latencyRows(sum, d)...)
	}
	if b := d.Bursts; b.Runs > 0 {
		words := fmt.Sprintf("%s of lost frames, %.1f long on average, the longest %d", text.Count(b.Runs, "run"), b.Mean, b.Longest)
		if d.Together {
			words += fmt.Sprintf("; losses stand together (after a lost frame the next is lost in %.0f %% of cases, after a received one in %.1f %%)", 100*(1-b.Leave), 100*b.Enter)
		}
		rows = append(rows, [2]string{"bursts", words})
	}
	if st := d.Strength; st != nil {
		rows = append(rows, [2]string{"strength", fmt.Sprintf("mean %.1f dBm, %v to %v dBm", st.Mean, st.Min, st.Max)})
	}
	if m := d.Margin; m != nil && m.Seen {
		rows = append(rows, [2]string{"margin", fmt.Sprintf("%.1f dB above %.1f dBm, where more than 5 %% begin to be lost", m.DB, m.Level)})
	} else if m != nil {
		rows = append(rows, [2]string{"margin", fmt.Sprintf("%.1f dB at least: down to %v dBm no strength has shown a loss above 5 %%", m.DB, m.Level)})
	}
	if st := d.SNR; st != nil {
		rows = append(rows, [2]string{"snr", fmt.Sprintf("mean %.1f dB, %v to %v dB", st.Mean, st.Min, st.Max)})
	}
	if d.Refused > 0 {
		rows = append(rows, [2]string{"refused", fmt.Sprintf("%s refused or left unanswered by %s (among the lost)", text.Count(d.Refused, "frame"), d.From)})
	}
	for _, size := range d.Sizes {
		rows = append(rows, [2]string{fmt.Sprintf("%d bytes", size.Size), fmt.Sprintf("%d sent, %d lost: %s; mean latency %.1f ms", size.Sent, size.Lost, Share(size.Loss), size.MeanMS)})
	}
	for _, why := range d.Why {
		rows = append(rows, [2]string{"judged", why})
	}
	return rows
}

// latencyRows are the latency, how sure it is, and what it is made of.
func latencyRows(sum link.Summary, d link.Direction) [][2]string {
	l := d.LatencyMS
	share := fmt.Sprintf("%.1f ms on the serial lines (%s), %.3f ms in this machine, the rest in the modules and the air", d.WireMS, d.Passes, sum.FloorMS)
	switch {
	case d.TooFast > 0:
		share = fmt.Sprintf("not told apart: %d frames came sooner than the serial lines alone take, so the port does not keep its line's time", d.TooFast)
	case d.WireMS == 0: // no serial line takes no time at all
		share = fmt.Sprintf("%.3f ms in this machine, the rest in the network, the modules and the air: these ports have no serial line to count", sum.FloorMS)
	case d.Passes == "": // of an earlier version
		share = strings.Replace(share, " ()", "", 1)
	}
	rows := [][2]string{
		{"latency", fmt.Sprintf("median %s; %s; %s to %s", MS(l.Median), within(l, 4), bare(l.Min), MS(l.Max))},
		{"of that", share},
	}
	if words := tooLong(sum, d); words != "" {
		rows = append(rows, [2]string{"timing error", words})
	}
	if d.FarClock != nil {
		rows = append(rows, [2]string{"not sure", d.FarClock.Words()})
	}
	if in := l.Intervals; in != nil {
		rows = append(rows, [2]string{"how sure", fmt.Sprintf("median %s, p95 %s, p99 %s, each with 95 %% confidence%s", bounds(in["median"]), bounds(in["p95"]), bounds(in["p99"]), effective(l))})
		if l.Effective > 0 && l.Effective < link.FewEffective {
			rows = append(rows, [2]string{"not sure", fmt.Sprintf("frames near one another take alike long, so these are worth %.0f independent ones: under %d the intervals of the latency are too narrow", l.Effective, link.FewEffective)})
		}
	}
	if p := d.PlannedMS; p != nil {
		rows = append(rows, [2]string{"from the plan", fmt.Sprintf("median %s; %s: sending was held up, and this counts the wait", MS(p.Median), within(p, 3))})
	}
	if d.KeptMS > 0 && sum.EveryMS > 0 {
		rows = append(rows, [2]string{"sending", fmt.Sprintf("every %.1f ms, planned %.1f; sender lag: p95 %.1f ms, max %.1f", d.KeptMS, sum.EveryMS, d.Lag.P95, d.Lag.Max)})
	}
	return append(rows, [2]string{"variation", fmt.Sprintf("%.1f ms from the least to the 99th percentile of those received (RFC 5481); jitter %.1f ms (RFC 3550), on average %.1f", d.VariationMS, d.JitterMS, d.MeanDMS)})
}

// effective is how many independent frames would tell as much of a latency, in words.
func effective(l *link.Latency) string {
	if l.Effective <= 0 {
		return ""
	}
	return fmt.Sprintf(", by %.0f effective frames", l.Effective)
}

// MS is a latency in words: that of a lost frame is greater than any other.
func MS(v record.Number) string {
	if !v.Finite() {
		return "lost"
	}
	return fmt.Sprintf("%.1f ms", float64(v))
}

// within are the first so many percentiles above the median; where so many frames were lost
// that one has no latency, that is said once.
func within(l *link.Latency, n int) string {
	var words []string
	for i, v := range []record.Number{l.P90, l.P95, l.P99, l.P999}[:n] {
		share := []string{"90", "95", "99", "99.9"}[i]
		lost := []string{"10", "5", "1", "0.1"}[i]
		if !v.Finite() {
			words = append(words, "p"+share+": none, more than "+lost+" % was lost")
			break
		}
		words = append(words, share+" % within "+bare(v))
	}
	return strings.Join(words, ", ")
}

// bare is MS without the unit.
func bare(v record.Number) string { return strings.TrimSuffix(MS(v), " ms") }

func bounds(b link.Bounds) string {
	switch high := MS(b.High); {
	case b.Low <= 0 && !b.High.Finite():
		return "not known from so few"
	case !b.Low.Finite():
		return "none: more was lost"
	case b.High.Finite():
		return fmt.Sprintf("%.1f to %s", float64(b.Low), high)
	default:
		return fmt.Sprintf("at least %s", MS(b.Low))
	}
}

// tooLong is by how much latencies may be too long, in words.
func tooLong(sum link.Summary, d link.Direction) string {
	var parts []string
	if m := sum.Machine; m != nil {
		parts = append(parts, fmt.Sprintf("of this machine: up to %.2f ms (95 %%), %.2f max", m.P95, m.Max))
	}
	if d.HoldMS != nil {
		parts = append(parts, fmt.Sprintf("of the adapter: up to %d ms held back", *d.HoldMS))
	}
	return strings.Join(parts, ", and ")
}

// lossWords is the loss with how sure it is; where none was seen, what that says.
func lossWords(d link.Direction) string {
	if d.Lost == 0 && d.Sent > 0 {
		return fmt.Sprintf("none lost of %d: with 95 %% confidence the loss is below %.2g %%", d.Received, 100*d.Loss.High)
	}
	return fmt.Sprintf("%.2f %%, with 95 %% confidence %.2f %% to %.2f %%", 100*d.Loss.Ratio, 100*d.Loss.Low, 100*d.Loss.High)
}

// Share is a share with its 95 % interval.
func Share(v stats.Share) string {
	return fmt.Sprintf("%.2f %% (%.2f to %.2f)", 100*v.Ratio, 100*v.Low, 100*v.High)
}
