package stats

import "math"

// Mean is the mean of a sample; NaN if it is empty.
func Mean(xs []float64) float64 {
	sum := 0.0
	for _, x := range xs {
		sum += x
	}
	return sum / float64(len(xs))
}

// StdDev is the standard deviation of a sample, with n - 1 degrees of freedom, in
// two passes (T. F. Chan, G. H. Golub, R. J. LeVeque, The American Statistician 37,
// 1983); NaN below two values.
func StdDev(xs []float64) float64 {
	mean, n := Mean(xs), float64(len(xs))
	var squares, rest float64
	for _, x := range xs {
		squares += (x - mean) * (x - mean)
		rest += x - mean
	}
	return math.Sqrt((squares - rest*rest/n) / (n - 1))
}

// MovingRange is the mean difference of neighbouring values of a normal sample in
// units of its standard deviation (ISO 7870-2, d2 of two values).
const MovingRange = 1.128

// Index is a capability index with its 95 % confidence interval.
type Index struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// Capability is how often three standard deviations fit into the room between the
// mean and the nearer limit, for a sample of n values. The interval is that of
// Bissell (1990): index ± 1.96 √(1/(9n) + index²/(2n−2)).
func Capability(room, sd float64, n int) *Index {
	return capability(room, sd, n, 1/(2*float64(n)-2))
}

// CapabilityOfRange is Capability with the standard deviation that the mean moving range
// of two shows, which is less sure: its variance is (0.8264 n − 1.082)/(n − 1)² (P. C.
// Cryer, T. P. Ryan, Journal of Quality Technology 22, 1990).
func CapabilityOfRange(room, sd float64, n int) *Index {
	return capability(room, sd, n, (0.8264*float64(n)-1.082)/((float64(n)-1)*(float64(n)-1)))
}

// capability has the relative variance of its standard deviation.
func capability(room, sd float64, n int, variance float64) *Index {
	v := room / (3 * sd)
	half := z * math.Sqrt(1/(9*float64(n))+v*v*variance)
	return &Index{v, v - half, v + half}
}
