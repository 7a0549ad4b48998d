package record

import (
	"strconv"

	"uparrot/core/verdict"
)

// Measurement is a value that was held against limits: the data of a Limit event.
type Measurement struct {
	What    string          `json:"what"`
	Value   Number          `json:"value"`
	Low     *float64        `json:"low,omitempty"`  // nil is an open side
	High    *float64        `json:"high,omitempty"` // nil is an open side
	Unit    string          `json:"unit,omitempty"`
	Step    string          `json:"step"`
	Verdict verdict.Verdict `json:"verdict"`
}

// Range is the limits as written, LOW..HIGH.
func (m Measurement) Range() string {
	side := func(f *float64) string {
		if f == nil {
			return ""
		}
		return strconv.FormatFloat(*f, 'f', -1, 64)
	}
	return side(m.Low) + ".." + side(m.High)
}

// WithUnit is a value with its unit, if it has one.
func WithUnit(value, unit string) string {
	if unit == "" {
		return value
	}
	return value + " " + unit
}
