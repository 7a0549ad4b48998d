package chart

import (
	"io"
	"math"
	"strings"
	"testing"
)

// Ticks come to an end and stand within their axis, whatever that is.
func TestTicks(t *testing.T) {
	for name, ticks := range map[string]func(low, high float64) []Tick{"round": Round, "whole": Whole, "decades": Decades, "shares": Shares, "names": Names([]string{"valley", "summit"})} {
		for _, c := range [][2]float64{{0, 1}, {-5, 5}, {0.001, 1}, {1e16, 1e16 + 2}, {1e308, 1.5e308}, {0, math.SmallestNonzeroFloat64}, {-1e-9, 1e-9}} {
			list := ticks(c[0], c[1])
			if name == "shares" && c[0] <= 0 || len(list) > 700 {
				if len(list) > 700 {
					t.Errorf("%s of %v: %d ticks", name, c, len(list))
				}
				continue
			}
			for _, k := range list {
				if room := (c[1] - c[0]) / 50; k.At < c[0]-room || k.At > c[1]+room {
					t.Errorf("%s of %v: a tick at %v", name, c, k.At)
				}
			}
		}
	}
	if list := Round(0, 100); len(list) != 11 || list[3].Label != "30" {
		t.Errorf("%v", list)
	}
}

// A panel without marks, or with bounds that are none, is drawn all the same.
func TestOddPanels(t *testing.T) {
	for _, p := range []*Panel{{}, {X: Axis{Log: true}, Y: Axis{Log: true, Ticks: Decades}}, {X: Axis{Low: math.Inf(1), Ticks: Decades}}, {Y: Axis{Low: math.NaN()}, Marks: []Mark{Line{At: []XY{{1, 1}}}}}} {
		var b strings.Builder
		if err := Inline(&b, Chart{p}, "odd"); err != nil || strings.Contains(b.String(), "NaN") || strings.Contains(b.String(), "Inf") {
			t.Errorf("%+v: %v, %s", p, err, b.String())
		}
	}
	if err := Draw(io.Discard, nil, "png"); err == nil {
		t.Error("nothing was drawn well")
	}
}
