package series

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
)

// Number is a measured number. A module may also send what is none, or what is too
// great: that is written as a word, NaN, +Inf or -Inf, in JSON and in databases, where
// no number stands for it.
type Number float64

// Finite reports whether it is a number that can be held against limits.
func (n Number) Finite() bool { return !math.IsNaN(float64(n)) && !math.IsInf(float64(n), 0) }

// String is the number with as many digits as it needs; one of more than 21 before its point, or of more than
// nine noughts behind it, has a power of ten.
func (n Number) String() string { return Digits(float64(n)) }

// Digits is a number as Number shows it.
func Digits(f float64) string {
	form := byte('f')
	if a := math.Abs(f); a >= 1e21 || a > 0 && a < 1e-9 {
		form = 'g'
	}
	return strconv.FormatFloat(f, form, -1, 64)
}

// MarshalJSON is the number, or the word in quotes.
func (n Number) MarshalJSON() ([]byte, error) {
	if !n.Finite() {
		return json.Marshal(n.String())
	}
	return json.Marshal(float64(n))
}

// UnmarshalJSON reads either.
func (n *Number) UnmarshalJSON(b []byte) error {
	var word string
	if json.Unmarshal(b, &word) == nil {
		return n.read(word)
	}
	return json.Unmarshal(b, (*float64)(n))
}

func (n *Number) read(word string) error {
	v, err := strconv.ParseFloat(word, 64)
	if err != nil {
		return fmt.Errorf("%q is no number", word)
	}
	*n = Number(v)
	return nil
}

// Value is what a database keeps.
func (n Number) Value() (driver.Value, error) {
	if !n.Finite() {
		return n.String(), nil
	}
	return float64(n), nil
}

// Scan reads what a database has kept.
func (n *Number) Scan(from any) error {
	switch v := from.(type) {
	case float64:
		*n = Number(v)
	case int64:
		*n = Number(v)
	case string:
		return n.read(v)
	case []byte:
		return n.read(string(v))
	default:
		return fmt.Errorf("%v is no number", from)
	}
	return nil
}
