package report

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"uparrot/core/bringup/loopback"
	"uparrot/core/bringup/probe"
	"uparrot/core/link"
	"uparrot/core/link/bits"
	"uparrot/core/link/capacity"
	"uparrot/core/link/hearing"
	"uparrot/core/record"
	"uparrot/core/report/chart"
	"uparrot/core/stats"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// ResultSeen is what a test found that is none of frames.
type ResultSeen struct {
	What    string // its kind, such as probe
	Verdict verdict.Verdict
	Rows    [][2]string // names and what they came to
	Chart   chart.Chart // nil if there is nothing to draw
}

// tellers say what the results of each kind are.
var tellers = map[string]func(e record.Event, r *ResultSeen) error{
	probe.Name:    told(probeRows, nil),
	loopback.Name: told(loopbackRows, nil),
	hearing.Name:  told(mapRows, Matrix),
	capacity.Name: told(capacityRows, LoadCurve),
	bits.Name:     told(BitRows, nil),
	record.SettingsKind: told(func(s record.Settings) [][2]string {
		rows := [][2]string{{s.Name, s.Family + ", " + s.When}}
		for _, v := range slices.Concat(s.Identity, s.Settings) {
			rows = append(rows, [2]string{v.Name, v.Shown()})
		}
		return rows
	}, nil),
	link.AnswerName: told(func(a link.Answered) [][2]string {
		return [][2]string{{"frames", fmt.Sprintf("%d repeated", a.Repeated)}}
	}, nil),
}

func told[T any](rows func(T) [][2]string, drawn func(T) chart.Chart) func(record.Event, *ResultSeen) error {
	return func(e record.Event, r *ResultSeen) error {
		v, err := record.Decode[T](e)
		if err != nil {
			return err
		}
		for _, row := range rows(v) {
			r.Rows = append(r.Rows, [2]string{text.Line(row[0]), text.Line(row[1])})
		}
		if drawn != nil {
			r.Chart = drawn(v)
		}
		return nil
	}
}

// resultSeen reads a Result event. One of a kind that is not known is told name by
// name.
func resultSeen(e record.Event) (ResultSeen, error) {
	r := ResultSeen{What: e.Text, Verdict: e.Verdict}
	if r.What == "" { // as records of before have it
		old, err := record.Decode[struct{ Kind string }](e)
		if err != nil {
			return r, err
		}
		r.What = old.Kind
	}
	if tell, ok := tellers[r.What]; ok {
		return r, tell(e, &r)
	}
	found, err := record.Decode[map[string]any](e)
	for _, name := range sortedKeys(found) {
		r.Rows = append(r.Rows, [2]string{strings.ReplaceAll(text.Line(name), "_", " "), shown(found[name])})
	}
	return r, err
}

// words is a result on one line.
func (r ResultSeen) words() string {
	var parts []string
	for _, row := range r.Rows {
		parts = append(parts, strings.TrimSpace(row[0]+" "+row[1]))
	}
	return strings.Join(parts, "; ")
}

// probeRows are what a probe found.
func probeRows(r probe.Result) [][2]string {
	var rows [][2]string
	if r.Kind == probe.Found {
		how := "sure"
		if !r.Sure {
			how = "likely, not sure"
		}
		rows = append(rows, [2]string{"setting", fmt.Sprintf("%s, ending %s, dialect %s (%s)", r.Line(), r.Ending, r.Dialect, how)})
	} else {
		rows = append(rows, [2]string{"setting", "none was found: " + string(r.Kind)})
	}
	for _, w := range r.Why {
		rows = append(rows, [2]string{"why", w})
	}
	for _, p := range r.Points {
		rows = append(rows, [2]string{"look at", p})
	}
	for _, h := range r.Heard {
		if h.Text != "" {
			rows = append(rows, [2]string{fmt.Sprintf("heard at %d", h.Speed), text.Clip(h.Text, 60)})
		}
	}
	return rows
}

// loopbackRows are what a loopback proved.
func loopbackRows(r loopback.Result) [][2]string {
	found := "nothing was proven"
	if len(r.Proven) > 0 {
		found = "proven: " + strings.Join(r.Proven, ", ")
	}
	for _, s := range r.Stages {
		if s.Verdict != verdict.Passed && s.Verdict != verdict.Skipped {
			found = s.What + ": " + s.Why
			break
		}
	}
	rows := [][2]string{{"found", found}}
	for _, s := range r.Stages {
		why := ""
		if s.Why != "" {
			why = ": " + s.Why
		}
		rows = append(rows, [2]string{s.What, string(s.Verdict) + why})
	}
	for _, p := range r.Proven {
		rows = append(rows, [2]string{"proven", p})
	}
	for _, p := range r.Points {
		rows = append(rows, [2]string{"look at", p})
	}
	return rows
}

// mapRows are who heard whom, a row for each that spoke.
func mapRows(r hearing.Result) [][2]string {
	var wrong []string
	for _, c := range r.Cells {
		if c.Verdict == verdict.Failed {
			wrong = append(wrong, fmt.Sprintf("%s must %s %s and heard %d of %d", c.Listener, c.Wanted, c.Speaker, c.Heard, c.Sent))
		}
	}
	found := text.Count(len(r.Cells), "pair") + ", as wanted"
	switch {
	case len(wrong) > 0:
		found = fmt.Sprintf("%d of %s not as wanted: %s", len(wrong), text.Count(len(r.Cells), "pair"), strings.Join(wrong, "; "))
	case r.Verdict == verdict.Measured:
		found = text.Count(len(r.Cells), "pair") + "; the bench does not say who must hear whom"
	case r.Verdict != verdict.Passed:
		found = "it was broken off"
	}
	rows := [][2]string{{"found", found}}
	for _, speaker := range r.Names {
		var heard []string
		for _, c := range r.Cells {
			if c.Speaker == speaker {
				heard = append(heard, cellWords(c))
			}
		}
		rows = append(rows, [2]string{speaker + " speaks", strings.Join(heard, "; ")})
	}
	return rows
}

// cellWords is what one listener heard, and where that is wrong what was wanted.
func cellWords(c hearing.Cell) string {
	words := fmt.Sprintf("%s heard %d of %d", c.Listener, c.Heard, c.Sent)
	if c.Verdict == verdict.Failed {
		words += fmt.Sprintf(" and must %s it: failed", c.Wanted)
	}
	return words
}

// capacityRows are what a search for the capacity of a link found.
func capacityRows(r capacity.Result) [][2]string {
	rows := [][2]string{{"found", r.String()}, {"frames", fmt.Sprintf("of %d bytes, with a loss of at most %s", r.Size, stats.Percent(r.MaxLoss))}}
	if r.Buffer > 0 {
		rows = append(rows, [2]string{"buffer", fmt.Sprintf("the modules held up to %s before they lost one", text.Count(r.Buffer, "frame"))})
	}
	for _, p := range r.Points {
		rows = append(rows, [2]string{fmt.Sprintf("every %.1f ms", p.KeptMS),
			fmt.Sprintf("%.1f frames/s carried, %.0f %% of the wire: %d of %d lost or late, %s; 95 %% within %s: %s", p.Rate, 100*p.Load, p.Lost, p.Sent, Share(p.Loss), MS(p.P95MS), p.Verdict)})
	}
	return rows
}

// BitRows are what a bit error test found.
func BitRows(r bits.Result) [][2]string {
	ratio := fmt.Sprintf("%.2g, with 95 %% confidence %.2g to %.2g", r.Ratio.Ratio, r.Ratio.Low, r.Ratio.High)
	if r.Errored == 0 && r.Compared > 0 {
		ratio = fmt.Sprintf("none wrong of %d: with 95 %% confidence below %.2g", r.Compared, r.Ratio.High)
	}
	rows := [][2]string{}
	if r.Missed > 0 { // no ratio covers them, so they come first
		rows = append(rows, [2]string{"not compared", fmt.Sprintf("%d of %d bits sent, %.2g %%", r.Missed, r.Sent, 100*float64(r.Missed)/float64(max(1, r.Sent)))})
	}
	return append(rows, [][2]string{
		{"bits", fmt.Sprintf("%d sent as %s, %d compared, %d wrong, %d while out of step", r.Sent, r.Pattern, r.Compared, r.Errored, r.Outside)},
		{"ratio", ratio},
		{"step", fmt.Sprintf("lost %s, %s by %+d bits together", text.Count(r.Losses, "time"), text.Count(r.Slips, "slip"), r.Shifted)},
		{"seconds", fmt.Sprintf("%d, of them %d available (%.3f %%); %d errored, %d severely (ITU-T G.821)", r.Seconds, r.Available, 100*r.AvailRatio, r.ErroredS, r.Severely)},
		{"judged", r.Why},
	}...)
}

// StretchRows are what was found between the marks of a range walk, a row for each
// stretch and direction: its name, direction, frames sent and lost, loss, longest
// run lost and strength.
func StretchRows(list []link.Stretch) [][]string {
	var rows [][]string
	for _, s := range list {
		strength := ""
		if st := s.Strength; st != nil {
			strength = fmt.Sprintf("mean %.1f dBm, %v to %v", st.Mean, st.Min, st.Max)
		}
		loss := "no frame was sent"
		if s.Sent > 0 {
			loss = Share(s.Loss)
		}
		rows = append(rows, []string{text.Line(s.Name), text.Line(s.From + " to " + s.To), fmt.Sprint(s.Sent), fmt.Sprint(s.Lost), loss, fmt.Sprint(s.Longest), strength})
	}
	return rows
}

// StretchHead is the head of a table of stretches.
var StretchHead = []string{"stretch", "direction", "sent", "lost", "loss, 95 % interval", "longest run", "strength"}

// shown is a value of a result in words.
func shown(v any) string {
	switch v := v.(type) {
	case float64:
		return number(v)
	case map[string]any:
		var parts []string
		for _, name := range sortedKeys(v) {
			parts = append(parts, text.Line(name)+" "+shown(v[name]))
		}
		return strings.Join(parts, ", ")
	case []any:
		b, err := json.Marshal(v)
		if err == nil {
			return text.Line(string(b))
		}
	}
	return text.Line(fmt.Sprint(v))
}
