package stats

import "math"

// Spread is the least, mean and greatest of a value told with each frame.
type Spread struct {
	Min  float64 `json:"min"`
	Mean float64 `json:"mean"`
	Max  float64 `json:"max"`
	Low  float64 `json:"low"` // of the mean, with 95 % confidence
	High float64 `json:"high"`
}

// Spread is what the sample comes to; nil if it is empty.
func (s Sample) Spread() *Spread {
	if s.N == 0 {
		return nil
	}
	n := float64(s.N)
	mean := s.Sum / n
	half := math.Inf(1)
	if s.N > 1 {
		half = z * math.Sqrt(max(0, (s.Squares-n*mean*mean)/(n-1))/n)
	}
	sp := &Spread{Min: s.Low, Mean: Round(mean, 2), Max: s.High, Low: s.Low, High: s.High}
	if !math.IsInf(half, 1) {
		sp.Low, sp.High = Round(mean-half, 2), Round(mean+half, 2)
	}
	return sp
}

// Sample gathers values, without keeping them.
type Sample struct {
	N                       int
	Low, High, Sum, Squares float64
}

// Add takes in a value; one that is none, NaN, is passed over.
func (s *Sample) Add(v float64) {
	if math.IsNaN(v) {
		return
	}
	if s.N == 0 || v < s.Low {
		s.Low = v
	}
	if s.N == 0 || v > s.High {
		s.High = v
	}
	s.Sum += v
	s.Squares += v * v
	s.N++
}
