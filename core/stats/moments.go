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

// Line is the slope of the line of least squares through points, with its 95 % interval by Student's t (N. R. Draper
// and H. Smith, Applied Regression Analysis, 1998, section 1.4), for deviations that do not depend on one another;
// false of fewer than 5 points, where all stand at one x, or where one is not finite.
func Line(xs, ys []float64) (slope, low, high float64, known bool) {
	n := float64(len(xs))
	if len(xs) < 5 {
		return 0, 0, 0, false
	}
	mx, my := Mean(xs), Mean(ys)
	var xx, xy, yy float64
	for i, x := range xs {
		xx, xy, yy = xx+(x-mx)*(x-mx), xy+(x-mx)*(ys[i]-my), yy+(ys[i]-my)*(ys[i]-my)
	}
	if !(xx > 0) || math.IsNaN(yy) || math.IsInf(yy, 0) {
		return 0, 0, 0, false
	}
	slope = xy / xx
	half := student(n-2) * math.Sqrt(max(0, yy-slope*xy)/(n-2)/xx)
	return slope, slope - half, slope + half, true
}
