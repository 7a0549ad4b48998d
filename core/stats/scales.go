package stats

import "math"

// scales gathers, for blocks of 2, 4, 8 frames and so on, how much the numbers lost in them differ: with that it is
// known how losses stand together over any distance, in memory that grows with the logarithm of the frames.
type scales [maxScales]scale

const maxScales = 40

// scale is what is known of blocks of one size.
type scale struct {
	Blocks int     `json:"n"`
	Sum    float64 `json:"s"` // of the numbers lost
	Square float64 `json:"q"` // ... squared
	Half   float64 `json:"h"` // lost in the first half of the block that is being filled
	Filled bool    `json:"f"` // that half is whole
}

// add takes in the next frame.
func (s *scales) add(lost bool) {
	x := 0.0
	if lost {
		x = 1
	}
	for i := range s {
		l := &s[i]
		l.Blocks++
		l.Sum += x
		l.Square += x * x
		if !l.Filled {
			l.Half, l.Filled = x, true
			return
		}
		x, l.Filled = x+l.Half, false
	}
}

// memory is how losses depend on one another: correlations c m^k over k frames, which losses of two states with any
// loss in each have (E. N. Gilbert and E. O. Elliott, Bell System Technical Journal 39 and 42, 1960 and 1963), and
// slow fades nearly. Inflation is by how much the number lost varies more than that of independent losses, over
// many frames, 1 + 2 c m / (1 - m): twice the integrated autocorrelation time. Frames is that over which they
// forget, 1 / (1 - m); 0 of independent losses.
type memory struct{ inflation, frames float64 }

// independent are losses of which nothing says that they depend on one another.
var independent = memory{1, 0}

// The fit looks at scales with so many blocks, and takes a memory for real that raises the log-likelihood by so
// much, which independent losses do in about a twentieth of tests.
const (
	leastBlocks   = 12
	leastEvidence = 3.2
)

// forgets are the memories that are tried, and shapes how much blocks of each size vary by them.
var forgets, shapes = func() (frames []float64, shapes [][maxScales]float64) {
	for t := 0.25; t < 600; t *= 1.3 {
		m := math.Exp(-1 / t)
		var shape [maxScales]float64
		for i := range shape {
			b := math.Pow(2, float64(i))
			shape[i] = 2 * (m/(1-m) - m*(1-math.Pow(m, b))/(b*(1-m)*(1-m)))
		}
		frames, shapes = append(frames, t), append(shapes, shape)
	}
	return frames, shapes
}()

// memory fits the model to the variances of all scales, by their likelihood as those of normal values (a gamma
// law with blocks - 1 degrees of freedom each). Least is by how much it must raise its logarithm.
func (s *scales) memory(lost, frames int, least float64) memory {
	p := float64(lost) / float64(frames)
	type point struct{ v, n float64 }
	var at []point // from blocks of two on
	for i := 1; i < len(s) && s[i].Blocks >= leastBlocks; i++ {
		n, mean := float64(s[i].Blocks), s[i].Sum/float64(s[i].Blocks)
		at = append(at, point{max(1e-9, (s[i].Square-n*mean*mean)/(n-1)/(math.Pow(2, float64(i))*p*(1-p))), n})
	}
	deviance := func(c float64, shape *[maxScales]float64) (sum float64) {
		for i, x := range at {
			ratio := x.v / (1 + c*shape[i+1])
			sum += x.n / 2 * (ratio - 1 - math.Log(ratio))
		}
		return sum
	}
	none := deviance(0, &shapes[0])
	best, found := none-least, independent
	for j, t := range forgets {
		shape, m, c := &shapes[j], math.Exp(-1/t), 0.0
		for range 6 { // least squares, with the weights that the fit before gives
			num, den := 0.0, 0.0
			for i, x := range at {
				w := x.n / ((1 + c*shape[i+1]) * (1 + c*shape[i+1]))
				num += w * shape[i+1] * (x.v - 1)
				den += w * shape[i+1] * shape[i+1]
			}
			if den == 0 {
				break
			}
			c = min(max(0, num/den), 1/m) // no correlation is above 1
		}
		if d := deviance(c, shape); c > 0 && d < best {
			best, found = d, memory{1 + 2*c*m/(1-m), 1 / (1 - m)}
		}
	}
	return found
}
