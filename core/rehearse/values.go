package rehearse

import (
	"context"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
)

// measured is a value that the procedure judges, and the number in what a module says that it is
// made of.
type measured struct {
	limitSeen
	*numberSeen
	base  float64 // the value where the number is as it was
	slope float64 // of the value, for each unit of the number
	plain bool    // it is the number itself
	edge  []edge
}

// side is one limit of a value.
type side struct {
	limit   float64
	name    string
	towards float64 // where the value goes to from there as the number grows: 1 is inwards, -1 outwards
}

// edge is a limit, and with how many units of the number the value lies at it, from inside.
type edge struct {
	side
	units float64
}

// mostSpots is of how many numbers it is tried whether a value is made of them.
const mostSpots = 24

// measurements finds of which numbers the judged values are made: each in turn is told otherwise,
// until the value is another.
func (p *Play) measurements(ctx context.Context, b *baseline) (all []*measured, err error) {
	values := p.values()
	for _, l := range b.limits {
		if l.Text != nil || l.Low == nil && l.High == nil || !values(l.What) {
			continue
		}
		for _, s := range p.spots(b, l) {
			m := &measured{limitSeen: l, numberSeen: s, base: float64(l.Value)}
			if found, err := p.depends(ctx, b, m); err != nil {
				return nil, err
			} else if found {
				all = append(all, m)
				break
			}
		}
	}
	return all, nil
}

// values reports of each name whether the procedure judges a measurement of that name which is no time.
func (p *Play) values() func(what string) bool {
	all, took := map[*procedure.Limit]bool{}, map[string]bool{}
	for _, s := range p.File.Steps {
		walk(s.Body, func(n procedure.Node) {
			switch n := n.(type) {
			case *procedure.Hear:
				took[n.Took] = true
			case *procedure.Limit:
				of := func(name string) bool { return took[name] }
				calls := strings.Contains(n.Expr.Source, "elapsed(") || strings.Contains(n.Expr.Source, "since(")
				all[n] = !calls && (len(n.Expr.Names) == 0 || slices.ContainsFunc(n.Expr.Names, func(name string) bool { return !of(name) }))
			}
		})
	}
	return func(what string) bool {
		for n, value := range all {
			if value && n.Named(what) {
				return true
			}
		}
		return false
	}
}

// spots are the numbers that came before a value was judged: those that equal it first, then the
// latest.
func (p *Play) spots(b *baseline, l limitSeen) (all []*numberSeen) {
	said := map[string]string{}
	for _, e := range b.log[:min(l.at, len(b.log))] {
		st := p.Stations[e.port]
		switch {
		case e.step != "" || st == nil:
		case e.out:
			said[e.port] = string(e.text)
		default:
			for _, s := range numbersIn(st.Phrasebook, e.port, said[e.port], e.text, st.Setup.Dialect != phrasebook.Bytes) {
				all = append(slices.DeleteFunc(all, s.same), s)
			}
		}
	}
	slices.Reverse(all)
	slices.SortStableFunc(all, func(x, y *numberSeen) int {
		is := func(s *numberSeen) int {
			if s.value() == float64(l.Value) {
				return 0
			}
			return 1
		}
		return is(x) - is(y)
	})
	return all[:min(len(all), mostSpots)]
}

// told performs it with a number told as so many units, and is what was measured then; false if
// nothing was.
func (p *Play) told(ctx context.Context, b *baseline, m *measured, units float64) (float64, bool, error) {
	o, err := p.perform(ctx, trial{seed: p.Seed, quick: true, tampers: map[string]func(*log) tamper{m.port: func(*log) tamper {
		return &rewrittenAnswer{after: m.after, do: m.put(units), trigger: &trigger{}}
	}}})
	if err != nil {
		return 0, false, err
	}
	b.count(o)
	l, ok := o.limit(m.What, m.Step)
	return float64(l.Value), ok && !math.IsNaN(float64(l.Value)), nil
}

// depends reports whether a value is made of a number, and how it goes with it.
func (p *Play) depends(ctx context.Context, b *baseline, m *measured) (bool, error) {
	if m.Series != nil { // its values differ: here they are all one
		v, ok, err := p.told(ctx, b, m, m.units)
		if err != nil || !ok {
			return false, err
		}
		m.base = v
	}
	tenth := max(1, math.Round(math.Abs(m.units)/10))
	for _, by := range []float64{1, -1, tenth, -tenth} {
		v, ok, err := p.told(ctx, b, m, m.units+by)
		if err != nil {
			return false, err
		}
		if ok && math.Abs(v-m.base) > 1e-9 {
			m.slope = (v - m.base) / by
			m.plain = math.Abs(m.base-m.value()) < 1e-9 && math.Abs(m.slope-m.unit) < 1e-9
			return true, nil
		}
	}
	return false, nil
}

// unitsFor is how many units the number must have for the value to come to a target, as a fraction.
func (p *Play) unitsFor(ctx context.Context, b *baseline, m *measured, target float64) (float64, error) {
	at, base, slope := m.units, m.base, m.slope
	for range 6 { // by secants, where it is no straight line
		next := at + (target-base)/slope
		if m.plain || slope == 0 || math.Abs(next-at) < 2 {
			return next, nil
		}
		next = math.Round(next)
		v, ok, err := p.told(ctx, b, m, next)
		if err != nil || !ok {
			return next, err
		}
		if v != base {
			slope = (v - base) / (next - at)
		}
		at, base = next, v
	}
	return at + (target-base)/slope, nil
}

// near is the whole number beside one that is hardly another; false if there is none.
func near(x float64) (float64, bool) {
	n := math.Round(x)
	return n, math.Abs(x-n) < 1e-6*max(1, math.Abs(x)*1e-6)
}

// inside is how many units bring a value to its limit, or as near as they can from inside: towards
// is +1 where the value grows from there into its limits with the number, else -1.
func inside(x float64, towards float64) float64 {
	if n, is := near(x); is {
		return n
	}
	if towards > 0 {
		return math.Ceil(x)
	}
	return math.Floor(x)
}

// sides are the limits of a value.
func (m *measured) sides() (all []side) {
	up := 1.0
	if m.slope < 0 {
		up = -1
	}
	if m.Low != nil {
		all = append(all, side{*m.Low, "below", up})
	}
	if m.High != nil {
		all = append(all, side{*m.High, "above", -up})
	}
	return all
}

// edges finds where the limits of all values lie.
func (p *Play) edges(ctx context.Context, b *baseline, all []*measured) error {
	for _, m := range all {
		for _, s := range m.sides() {
			x, err := p.unitsFor(ctx, b, m, s.limit)
			if err != nil {
				return err
			}
			e, found := edge{s, inside(x, s.towards)}, true
			if !m.plain {
				if found, err = p.settleAt(ctx, b, m, &e); err != nil {
					return err
				}
			}
			if found {
				m.edge = append(m.edge, e)
			}
		}
	}
	return nil
}

// settleAt goes from where an edge is thought to be to where it is: the last number with which the value
// is inside; false if there is none nearby.
func (p *Play) settleAt(ctx context.Context, b *baseline, m *measured, e *edge) (bool, error) {
	out := func(units float64) (bool, error) {
		v, ok, err := p.told(ctx, b, m, units)
		return ok && e.outside(limitSeen{Measurement: record.Measurement{Value: record.Number(v)}}), err
	}
	for range 12 {
		is, err := out(e.units)
		if err != nil {
			return false, err
		}
		if is {
			e.units += e.towards
			continue
		}
		if is, err = out(e.units - e.towards); is || err != nil {
			return is, err
		}
		e.units -= e.towards
	}
	return false, nil
}

// outside reports whether a measurement has come to the wrong side of a limit.
func (s side) outside(l limitSeen) bool {
	least, most := float64(l.Value), float64(l.Value)
	if l.Series != nil {
		least, most = float64(l.Series.Least), float64(l.Series.Greatest)
	}
	if s.name == "below" {
		return least < s.limit
	}
	return most > s.limit
}

// limits are modules of which a value lies outside its limits.
func (m *maker) limits() (all []*mutant) {
	for _, v := range m.b.measured {
		if v.port != m.port {
			continue
		}
		for _, e := range v.edge {
			units := e.units - e.towards
			if _, can := v.put(units)(v.like); !can {
				continue // no module tells that
			}
			nth := 0
			if v.Series != nil { // one of many
				nth = min(2, v.Series.N)
			}
			all = append(all, &mutant{kind: ofLimits, name: "a value " + e.name + " its limit", port: m.port, about: v.What, step: v.Step, touched: true, anyway: true, what: v.What, is: func(l limitSeen) bool { return l.Step == v.Step && e.outside(l) }, make: func() (tamper, *trigger) {
				on := &trigger{}
				return &rewrittenAnswer{after: v.after, nth: nth, do: v.put(units), trigger: on}, on
			}})
		}
	}
	return all
}

// within are values at each of their limits, just inside, and between them.
func (p *Play) within(b *baseline, port string) (all []*habit) {
	draw := rand.New(rand.NewPCG(p.Seed, 18)) //nolint:gosec // it is to be the same each time
	for _, m := range b.measured {
		if m.port != port {
			continue
		}
		tried := map[float64]string{}
		for _, e := range m.edge {
			tried[e.units], tried[e.units+e.towards] = "at its limit", "just inside its limit"
		}
		if len(m.edge) == 2 {
			from, to := min(m.edge[0].units, m.edge[1].units), max(m.edge[0].units, m.edge[1].units)
			for i := range 5 { // over the whole spread
				at := from + math.Round((to-from)*(float64(i)+draw.Float64())/5)
				if _, is := tried[at]; !is {
					tried[at] = "within its limits"
				}
			}
			for at := range tried {
				if at < from || at > to {
					delete(tried, at)
				}
			}
		}
		for _, units := range slices.Sorted(maps.Keys(tried)) {
			if _, can := m.put(units)(m.like); !can {
				continue
			}
			name := fmt.Sprintf("%s is %s, %s", m.What, m.text(units), tried[units])
			if !m.plain {
				name = fmt.Sprintf("%s made of %s, %s", m.What, m.text(units), tried[units])
			}
			all = append(all, &habit{name: name, port: port, what: m.What, is: func(l limitSeen) bool {
				return l.Step == m.Step && !slices.ContainsFunc(m.sides(), func(s side) bool { return s.outside(l) })
			}, accept: "a wider limit", scene: trial{tampers: map[string]func(*log) tamper{port: func(*log) tamper {
				return &rewrittenAnswer{after: m.after, do: m.put(units), trigger: &trigger{}}
			}}}})
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
				all = append(all, &mutant{kind: ofLimits, name: "a time above its limit", port: m.port, about: n.What, step: s.Title, touched: true, anyway: true, style: &style{starts: late, banner: h.Pattern}, make: func() (tamper, *trigger) {
					on := &trigger{n: 1}
					return &unchanged{trigger: on}, on
				}})
			}
		})
	}
	return all
}
