package report

import (
	"fmt"

	"uparrot/core/link"
	"uparrot/core/stats"
	"uparrot/core/text"
)

// LinkRows are what a link test found in one direction, in words: names and what
// they came to.
func LinkRows(sum link.Summary, d link.Direction) [][2]string {
	rows := [][2]string{
		{"frames", fmt.Sprintf("%d sent, %d received, %d lost", d.Sent, d.Received, d.Lost)},
		{"oddities", fmt.Sprintf("%d damaged (among the lost), %d late, %d duplicated, %d reordered, %d foreign", d.Damaged, d.Late, d.Duplicated, d.Reordered, d.Foreign)},
		{"loss", lossWords(d)},
	}
	if l := d.LatencyMS; l != nil {
		share := fmt.Sprintf("%.1f ms on the serial lines, %.3f ms in this machine,%s the rest in the modules and the air", d.WireMS, sum.FloorMS, heldBack(d))
		if d.WireMS == 0 { // no serial line takes no time at all
			share = fmt.Sprintf("%.3f ms in this machine,%s the rest in the network, the modules and the air: these ports have no serial line to count", sum.FloorMS, heldBack(d))
		}
		rows = append(rows,
			[2]string{"latency", fmt.Sprintf("median %.1f ms; 90 %% within %.1f, 95 %% within %.1f, 99 %% within %.1f, 99.9 %% within %.1f; %.1f to %.1f ms", l.Median, l.P90, l.P95, l.P99, l.P999, l.Min, l.Max)},
			[2]string{"of that", share},
			[2]string{"variation", fmt.Sprintf("%.1f ms from the least to the 99th percentile (RFC 5481); jitter %.1f ms (RFC 3550)", d.VariationMS, d.JitterMS)})
	}
	if b := d.Bursts; b.Runs > 0 {
		words := fmt.Sprintf("%s of lost frames, %.1f long on average, the longest %d", text.Count(b.Runs, "run"), b.Mean, b.Longest)
		if b.Leave > 0 && b.Enter+b.Leave < 0.9 {
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
		rows = append(rows, [2]string{"refused", fmt.Sprintf("%d frames were refused or left unanswered by %s (among the lost)", d.Refused, d.From)})
	}
	for _, size := range d.Sizes {
		rows = append(rows, [2]string{fmt.Sprintf("%d bytes", size.Size), fmt.Sprintf("%d sent, %d lost: %s; mean latency %.1f ms", size.Sent, size.Lost, Share(size.Loss), size.MeanMS)})
	}
	for _, why := range d.Why {
		rows = append(rows, [2]string{"judged", why})
	}
	return rows
}

// heldBack is what the receiving adapter may add, in words.
func heldBack(d link.Direction) string {
	if d.HoldMS == nil {
		return ""
	}
	return fmt.Sprintf(" up to %d ms held back by the adapter,", *d.HoldMS)
}

// lossWords is the loss with how sure it is; where none was seen, what that says.
func lossWords(d link.Direction) string {
	if d.Lost == 0 && d.Sent > 0 {
		return fmt.Sprintf("none lost of %d: with 95 %% confidence the loss is below %.2g %%", d.Sent, 100*d.Loss.High)
	}
	return fmt.Sprintf("%.2f %%, with 95 %% confidence %.2f %% to %.2f %%", 100*d.Loss.Ratio, 100*d.Loss.Low, 100*d.Loss.High)
}

// Share is a share with its 95 % interval.
func Share(v stats.Share) string {
	return fmt.Sprintf("%.2f %% (%.2f to %.2f)", 100*v.Ratio, 100*v.Low, 100*v.High)
}
