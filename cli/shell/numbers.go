package shell

import (
	"uparrot/core/record"
	"uparrot/core/series"
)

func NumberOrNone(n series.Number) string {
	if !n.Finite() {
		return "-"
	}
	return PlainNumber(float64(n))
}

func PlainNumber(v float64) string { return record.Short(v) }

func WithUnit(text, unit string) string { return record.WithUnit(text, OneLine(unit)) }
