package shell

import (
	"uparrot/core/record"
	"uparrot/core/series"
)

// NumberOrNone is a number as a person reads it; - where there is none.
func NumberOrNone(n series.Number) string {
	if !n.Finite() {
		return "-"
	}
	return PlainNumber(float64(n))
}

// PlainNumber is a number with as many digits as say something.
func PlainNumber(v float64) string { return record.Short(v) }

// WithUnit is a number with its unit behind it.
func WithUnit(text, unit string) string { return record.WithUnit(text, OneLine(unit)) }
