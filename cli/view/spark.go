package view

import (
	"math"

	"uparrot/core/series"
)

// sparks are the steps of a small chart.
var sparks = []rune("▁▂▃▄▅▆▇█")

// Spark is stretches as one row: the mean of each, a blank where nothing came.
func Spark(spans []series.Span, wide int) string {
	least, most := Bounds(spans)
	out := make([]rune, 0, wide)
	for _, s := range spans {
		switch {
		case s.N == 0:
			out = append(out, ' ')
		case most <= least:
			out = append(out, sparks[len(sparks)/2])
		default:
			out = append(out, sparks[min(len(sparks)-1, int((s.Mean()-least)/(most-least)*float64(len(sparks))))])
		}
	}
	return string(out)
}

// Bounds are the least and the greatest of stretches.
func Bounds(spans []series.Span) (least, most float64) {
	least, most = math.Inf(1), math.Inf(-1)
	for _, s := range spans {
		if s.N > 0 {
			least, most = min(least, s.Least), max(most, s.Greatest)
		}
	}
	return least, most
}
