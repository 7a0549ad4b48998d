package series

import "time"

// Span is what is known of the values of a stretch of time.
type Span struct {
	N               int
	Sum             float64
	Least, Greatest float64
}

// Add takes a value in.
func (s *Span) Add(v float64) { s.Join(Span{1, v, v, v}) }

// Join takes in what is known of another stretch.
func (s *Span) Join(o Span) {
	if o.N == 0 {
		return
	}
	if s.N == 0 {
		*s = o
		return
	}
	s.N += o.N
	s.Sum += o.Sum
	s.Least, s.Greatest = min(s.Least, o.Least), max(s.Greatest, o.Greatest)
}

// Mean is the mean of the stretch; it has values.
func (s Span) Mean() float64 { return s.Sum / float64(s.N) }

// mostSpans is how many stretches a curve has at most, and firstWidth how long one is at
// first.
const (
	mostSpans  = 1024
	firstWidth = time.Millisecond
)

// Curve is values over time in at most 1024 stretches of the same length, which doubles as
// time goes on: what is least and greatest in each is kept, however many there were. The zero
// value is ready.
type Curve struct {
	start time.Time
	width time.Duration
	spans []Span
}

// Add takes a finite value in. One from before the first counts to that.
func (c *Curve) Add(at time.Time, v float64) {
	if c.width == 0 {
		c.start, c.width = at, firstWidth
	}
	i := max(0, int(at.Sub(c.start)/c.width))
	for i >= mostSpans {
		c.halve()
		i = max(0, int(at.Sub(c.start)/c.width))
	}
	for len(c.spans) <= i {
		c.spans = append(c.spans, Span{})
	}
	c.spans[i].Add(v)
}

// halve joins stretches two by two.
func (c *Curve) halve() {
	half := c.spans[:(len(c.spans)+1)/2]
	for i := range half {
		s := c.spans[2*i]
		if 2*i+1 < len(c.spans) {
			s.Join(c.spans[2*i+1])
		}
		half[i] = s
	}
	c.spans, c.width = half, 2*c.width
}

// Start is when the first stretch begins, Width how long each is.
func (c *Curve) Start() time.Time     { return c.start }
func (c *Curve) Width() time.Duration { return c.width }

// Spans are the stretches, of which some may have no value.
func (c *Curve) Spans() []Span { return c.spans }

// Rings keep the last while of a series at several widths of stretches, for a view that is
// zoomed. The zero value is ready.
type Rings struct {
	rings [len(widths)]ring
}

// widths are how long a stretch is in each ring; a ring has ringSpans of them: the last
// minute, 20 min, 5 h and 80 h.
var widths = [...]time.Duration{50 * time.Millisecond, time.Second, 15 * time.Second, 4 * time.Minute}

const ringSpans = 1200

// Levels is how many rings there are, the finest first.
const Levels = len(widths)

// Width is how long a stretch of a level is, and Covers how long all of them.
func Width(level int) time.Duration  { return widths[level] }
func Covers(level int) time.Duration { return widths[level] * ringSpans }

type ring struct {
	spans  []Span
	newest int64 // stretches since 1970
}

// Add takes a finite value in.
func (r *Rings) Add(at time.Time, v float64) {
	for i := range r.rings {
		r.rings[i].add(at.UnixNano()/int64(widths[i]), v)
	}
}

func (r *ring) add(i int64, v float64) {
	switch {
	case r.spans == nil:
		r.spans, r.newest = make([]Span, ringSpans), i
	case i <= r.newest-ringSpans: // long gone
		return
	}
	for ; r.newest < i; r.newest++ {
		if i-r.newest > ringSpans {
			r.newest = i - ringSpans
		}
		r.spans[(r.newest+1)%ringSpans] = Span{}
	}
	r.spans[i%ringSpans].Add(v)
}

// Since is what a level holds of the stretches that end at a time, the oldest first.
func (r *Rings) Since(level int, until time.Time, n int) []Span {
	g := &r.rings[level]
	all := make([]Span, min(n, ringSpans))
	last := until.UnixNano() / int64(widths[level])
	for i := range all {
		at := last - int64(len(all)-1-i)
		if g.spans != nil && at <= g.newest && at > g.newest-ringSpans {
			all[i] = g.spans[at%ringSpans]
		}
	}
	return all
}
