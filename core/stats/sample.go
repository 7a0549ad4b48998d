package stats

import "math"

// Spread is the least, mean and greatest of a value told with each frame.
type Spread struct {
	Min  float64 `json:"min"`
	Mean float64 `json:"mean"`
	Max  float64 `json:"max"`
	N    int     `json:"n"` // how many values

	// The mean with 95 % confidence (Student's t, for values that may resemble their
	// neighbours); nil under three values.
	Low  *float64 `json:"low,omitempty"`
	High *float64 `json:"high,omitempty"`
}

// Sample gathers values in the order in which they come, in memory that does not grow.
type Sample struct {
	N      int     `json:"n"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
	Sum    float64 `json:"sum"`
	Blocks Blocks  `json:"blocks"`
}

// sampleStep is how near to each other values are told apart for the interval.
const sampleStep = 0.01

// Add takes in a value; one that is none, NaN, is passed over.
func (s *Sample) Add(v float64) {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return
	}
	if s.N == 0 || v < s.Low {
		s.Low = v
	}
	if s.N == 0 || v > s.High {
		s.High = v
	}
	s.Sum += v
	s.N++
	s.Blocks.Step = sampleStep
	s.Blocks.Add(v)
}

// Clone is a copy that grows by itself.
func (s *Sample) Clone() Sample {
	c := *s
	c.Blocks = s.Blocks.Clone()
	return c
}

// Spread is what the sample comes to; nil if it is empty.
func (s *Sample) Spread() *Spread {
	if s.N == 0 {
		return nil
	}
	sp := &Spread{Min: s.Low, Mean: Round(s.Sum/float64(s.N), 2), Max: s.High, N: s.N}
	if m := s.Blocks.Mean(); s.N > 2 {
		low, high := Round(m.Low, 2), Round(m.High, 2)
		sp.Low, sp.High = &low, &high
	}
	return sp
}
