package chart_test

import (
	"bytes"
	"fmt"

	"uparrot/core/report/chart"
)

// A picture of two frames and the limit of their latency, as a part of a page.
func Example() {
	c := chart.Chart{{
		Title: "Latency",
		X:     chart.Axis{Label: "time (s)"},
		Y:     chart.Axis{Label: "latency (ms)"},
		Marks: []chart.Mark{
			chart.Points{Name: "received", At: []chart.XY{{X: 0, Y: 48}, {X: 1, Y: 52}}, Size: 3},
			chart.Line{Name: "limit", At: []chart.XY{{X: 0, Y: 60}, {X: 1, Y: 60}}, Colour: chart.Bad, Dash: chart.Dashed},
		},
	}}
	var page bytes.Buffer
	err := chart.Inline(&page, c, "two frames within the limit")
	fmt.Println(err, bytes.Contains(page.Bytes(), []byte(`aria-label="two frames within the limit"`)), bytes.Contains(page.Bytes(), []byte("var(--failed)")))
	// Output: <nil> true true
}
