package rehearse

import (
	"bytes"
	"context"
	"regexp"
	"strconv"
	"strings"
	"time"

	"uparrot/core/procedure"
)

var aNumber = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?`)

// at is the line in which a measured value came: the last before it was judged that holds it.
func (m *maker) at(l limitSeen) (line []byte, after string) {
	want := float64(l.Value)
	for i := min(l.at, len(m.b.log)) - 1; i >= 0; i-- {
		e := m.b.log[i]
		if e.step != "" && e.step != l.Step {
			break
		}
		if e.port != m.port {
			continue
		}
		if e.out {
			if line != nil {
				return line, string(e.text)
			}
			continue
		}
		for _, n := range aNumber.FindAllString(string(e.text), -1) {
			if v, err := strconv.ParseFloat(n, 64); line == nil && err == nil && v == want {
				line = e.text
			}
		}
	}
	return line, ""
}

// withValue puts another number in the place of one: where that stands in a line, and in all lines
// that are like it but for their numbers and quoted words.
func withValue(like []byte, value float64, to string) func([]byte) ([][]byte, bool) {
	place := -1
	for i, at := range aNumber.FindAllIndex(like, -1) {
		if v, err := strconv.ParseFloat(string(like[at[0]:at[1]]), 64); err == nil && v == value && place < 0 {
			place = i
		}
	}
	shape := shapeOf(like)
	return func(line []byte) ([][]byte, bool) {
		at := aNumber.FindAllIndex(line, -1)
		if place < 0 || place >= len(at) || shapeOf(line) != shape {
			return nil, false
		}
		return [][]byte{append(append(bytes.Clone(line[:at[place][0]]), to...), line[at[place][1]:]...)}, true
	}
}

// shapeOf is what a line is but for its numbers, up to the fifth.
func shapeOf(line []byte) string {
	if at := aNumber.FindAllIndex(line, 5); len(at) == 5 {
		line = line[:at[4][1]]
	}
	return aNumber.ReplaceAllString(string(line), "#")
}

// decimals is how finely a value is told in a line, as the least step of its last digit.
func decimals(line []byte, value float64) (digits int) {
	for _, n := range aNumber.FindAllString(string(line), -1) {
		if v, err := strconv.ParseFloat(n, 64); err == nil && v == value {
			if _, after, ok := strings.Cut(n, "."); ok {
				return len(after)
			}
		}
	}
	return 0
}

// limits are modules of which a value lies outside its limits.
func (m *maker) limits() (all []*mutant) {
	if !m.lines {
		return nil
	}
	for _, l := range m.b.limits {
		if l.Text != nil || l.Series != nil || l.Low == nil && l.High == nil {
			continue
		}
		line, after := m.at(l)
		if line == nil {
			continue // of the time that it took, or worked out
		}
		digits := decimals(line, float64(l.Value))
		least := 1.0
		for range digits {
			least /= 10
		}
		for _, side := range []struct {
			limit *float64
			name  string
			by    float64
		}{{l.Low, "below", -least}, {l.High, "above", least}} {
			if side.limit == nil {
				continue
			}
			to := strconv.FormatFloat(*side.limit+side.by, 'f', digits, 64)
			all = append(all, &mutant{name: "a value " + side.name + " its limit", port: m.port, about: l.What, touched: true, anyway: true, what: l.What, value: *side.limit + side.by, make: func() (tamper, *trigger) {
				on := &trigger{}
				return &rewrites{after: after, do: withValue(line, float64(l.Value), to), trigger: on}, on
			}})
		}
	}
	return all
}

// times are modules that take longer than a limit of the procedure allows.
func (m *maker) times() (all []*mutant) {
	for _, s := range m.File.Steps {
		took := map[string]*procedure.Hear{}
		walk(s.Body, func(n procedure.Node) {
			switch n := n.(type) {
			case *procedure.Hear:
				if n.Took != "" && n.Port == m.port && len(n.Exprs) == 0 {
					took[n.Took] = n
				}
			case *procedure.Limit:
				h := took[n.Expr.Source]
				if h == nil || n.High == nil {
					return
				}
				high, err := n.High.Run(context.Background(), m.Values)
				most, err2 := strconv.ParseFloat(procedure.Text(high), 64)
				late := time.Duration((most + 0.05) * float64(time.Second))
				if err != nil || err2 != nil || late >= max(h.Within, m.File.Answers) {
					return // it would not be waited for so long
				}
				all = append(all, &mutant{name: "a time above its limit", port: m.port, about: n.What, touched: true, anyway: true, style: &style{starts: late, banner: h.Pattern}, make: func() (tamper, *trigger) {
					on := &trigger{n: 1}
					return &through{trigger: on}, on
				}})
			}
		})
	}
	return all
}
