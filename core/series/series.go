// Package series holds values over time: what is known of very many of them in memory that
// does not grow, a picture of them, and a form in which all of them take little room.
package series

import (
	"math"
	"time"
)

// Sample is one value and when it was measured.
type Sample struct {
	At    time.Time
	Value float64
}

// Outside is a value that is not within its limits, and when it was measured.
type Outside struct {
	Value Number    `json:"value"`
	At    time.Time `json:"at"`
}

// Summary is what is known of a series. Times between values are in seconds.
type Summary struct {
	Number   int       `json:"number"` // by which its samples name it
	N        int       `json:"n"`
	None     int       `json:"none,omitempty"` // of them, that are no finite number: they are in no statistic below
	Mean     Number    `json:"mean"`
	Least    Number    `json:"least"`
	Greatest Number    `json:"greatest"`
	Spread   *Number   `json:"spread"`            // standard deviation of the sample; null below 2 values
	Rate     float64   `json:"rate_hz,omitempty"` // values a second, from the first to the last; 0 below 2
	Silence  float64   `json:"silence_s"`         // the longest time between two values
	Outside  int       `json:"outside"`           // that are not within their limits
	Worst    *Outside  `json:"first,omitempty"`   // the first of these
	Last     Number    `json:"last"`              // the latest value
	Began    time.Time `json:"began"`             // when the first was measured
	Ended    time.Time `json:"ended"`             // ... the last
	Moved    bool      `json:"moved,omitempty"`   // the limits were not the same for all
	Texts    int       `json:"texts,omitempty"`   // of a series of texts: how many different ones; MostTexts stands for that or more
	LastText string    `json:"last_text,omitempty"`
}

// MostTexts is how many different texts of a series are told apart.
const MostTexts = 1000

// Series gathers the values of one series as they come. The zero value is ready. It does not
// grow with their number.
type Series struct {
	n, none, outside int
	mean, m2         float64 // Welford (Technometrics 4, 1962)
	least, greatest  float64
	last             float64
	began, ended     time.Time
	silence          time.Duration
	worst            *Outside
	texts            map[string]struct{}
	text             string
	curve            Curve
}

// Add takes a value in; outside is that it is not within its limits.
func (s *Series) Add(at time.Time, v float64, outside bool) {
	s.came(at, outside, v)
	s.last = v
	if math.IsNaN(v) || math.IsInf(v, 0) {
		s.none++
		return
	}
	if n := s.n - s.none; n == 1 {
		s.least, s.greatest = v, v
		s.mean = v
	} else {
		s.least, s.greatest = min(s.least, v), max(s.greatest, v)
		d := v - s.mean
		s.mean += d / float64(n)
		s.m2 += d * (v - s.mean)
	}
	s.curve.Add(at, v)
}

// AddText takes a text in.
func (s *Series) AddText(at time.Time, text string) {
	s.came(at, false, math.NaN())
	s.none++
	s.text = text
	if s.texts == nil {
		s.texts = map[string]struct{}{}
	}
	if len(s.texts) < MostTexts {
		s.texts[text] = struct{}{}
	}
}

// came counts a value, and the time since the one before.
func (s *Series) came(at time.Time, outside bool, v float64) {
	if s.n == 0 {
		s.began = at
	} else {
		s.silence = max(s.silence, at.Sub(s.ended))
	}
	s.ended = at
	if s.n++; outside {
		if s.outside++; s.worst == nil {
			s.worst = &Outside{Number(v), at}
		}
	}
}

// N is how many values there were.
func (s *Series) N() int { return s.n }

// Ended is when the last came; zero if none has.
func (s *Series) Ended() time.Time { return s.ended }

// Curve is a picture of the values.
func (s *Series) Curve() *Curve { return &s.curve }

// Summary is what is known by now.
func (s *Series) Summary() Summary {
	nan := Number(math.NaN())
	sum := Summary{N: s.n, None: s.none, Mean: nan, Least: nan, Greatest: nan, Outside: s.outside, Worst: s.worst, Last: Number(s.last),
		Silence: s.silence.Seconds(), Began: s.began, Ended: s.ended, Texts: len(s.texts), LastText: s.text}
	if s.texts != nil {
		sum.None, sum.Last = 0, nan
		if s.n > s.none {
			sum.None = s.none
		}
	}
	if n := s.n - s.none; n > 0 {
		sum.Mean, sum.Least, sum.Greatest = Number(s.mean), Number(s.least), Number(s.greatest)
		if n > 1 {
			sd := Number(math.Sqrt(s.m2 / float64(n-1)))
			sum.Spread = &sd
		}
	}
	if over := s.ended.Sub(s.began).Seconds(); s.n > 1 && over > 0 {
		sum.Rate = float64(s.n-1) / over
	}
	return sum
}
