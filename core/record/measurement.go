package record

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"time"

	"uparrot/core/series"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Measurement is a value that was held against limits, the data of a Limit event, or one
// without limits, that of a Value event: a number or a text.
type Measurement struct {
	What     string
	Value    Number   // NaN where the value is a text
	Text     *string  // the value where that is a text; nil where it is a number
	Low      *float64 // nil is an open side
	High     *float64 // nil is an open side
	Unit     string
	Step     string
	Verdict  verdict.Verdict // measured where nothing was wanted
	Identity bool            // it is how the module names itself
	Series   *series.Summary // it is of a series: then the value is the mean; nil if it is one value

	At time.Time // when it was measured; zero where nothing tells that
}

// measurementJSON is how it stands in a record.
type measurementJSON struct {
	What     string          `json:"what"`
	Value    *Number         `json:"value,omitempty"`
	Text     *string         `json:"text,omitempty"`
	Low      *float64        `json:"low,omitempty"`
	High     *float64        `json:"high,omitempty"`
	Unit     string          `json:"unit,omitempty"`
	Step     string          `json:"step"`
	Verdict  verdict.Verdict `json:"verdict"`
	Identity bool            `json:"identity,omitempty"`
	Series   *series.Summary `json:"series,omitempty"`
}

// MarshalJSON writes either value or text.
func (m Measurement) MarshalJSON() ([]byte, error) {
	j := measurementJSON{What: m.What, Text: m.Text, Low: m.Low, High: m.High, Unit: m.Unit, Step: m.Step, Verdict: m.Verdict, Identity: m.Identity, Series: m.Series}
	if m.Text == nil {
		j.Value = &m.Value
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads either.
func (m *Measurement) UnmarshalJSON(b []byte) error {
	var j measurementJSON
	if err := json.Unmarshal(b, &j); err != nil {
		return err
	}
	*m = Measurement{What: j.What, Value: Number(math.NaN()), Text: j.Text, Low: j.Low, High: j.High, Unit: j.Unit, Step: j.Step, Verdict: j.Verdict, Identity: j.Identity, Series: j.Series}
	if j.Value != nil {
		m.Value = *j.Value
	}
	return nil
}

// MeasurementOf reads a Limit or a Value event.
func MeasurementOf(e Event) (Measurement, error) {
	m, err := Decode[Measurement](e)
	m.At = e.Time
	return m, err
}

// IsMeasurement reports whether an event is of a value.
func (e Event) IsMeasurement() bool { return e.Kind == Limit || e.Kind == Value }

// Judged reports whether it was held against limits.
func (m Measurement) Judged() bool { return m.Verdict != verdict.Measured }

// Range is the limits as written, LOW..HIGH; "" if there are none.
func (m Measurement) Range() string {
	if !m.Judged() || m.Series != nil && m.Series.Moved {
		return ""
	}
	side := func(f *float64) string {
		if f == nil {
			return ""
		}
		return series.Digits(*f)
	}
	return side(m.Low) + ".." + side(m.High)
}

// Bare is the value without its unit.
func (m Measurement) Bare() string {
	if m.Text != nil {
		return *m.Text
	}
	return m.Value.String()
}

// Shown is the value as a person reads it, with its unit; of a series what it came to.
func (m Measurement) Shown() string {
	if m.Series != nil {
		return m.series()
	}
	return WithUnit(m.Bare(), m.Unit)
}

// series is a series in words.
func (m Measurement) series() string {
	s := m.Series
	words := text.Count(s.N, "value")
	switch {
	case s.Texts > 0:
		many := strconv.Itoa(s.Texts)
		if s.Texts >= series.MostTexts {
			many += " or more"
		}
		words += fmt.Sprintf(", %s different, the last %s", many, s.LastText)
	case s.N == s.None:
		words += ", none of them a number"
	case s.Least == s.Greatest:
		words += ", all " + WithUnit(Short(float64(s.Least)), m.Unit)
	default:
		words += fmt.Sprintf(", %s to %s, mean %s", Short(float64(s.Least)), Short(float64(s.Greatest)), WithUnit(Short(float64(s.Mean)), m.Unit))
		if s.Spread != nil {
			words += ", spread " + strconv.FormatFloat(float64(*s.Spread), 'g', 3, 64)
		}
	}
	words += pace(s.Rate)
	if s.None > 0 && s.N > s.None {
		words += fmt.Sprintf(", %d no number", s.None)
	}
	if s.Outside > 0 {
		words += fmt.Sprintf("; %d outside", s.Outside)
		if w := s.Worst; w != nil {
			words += fmt.Sprintf(", the first %s at %s", w.Value, w.At.Format(time.TimeOnly))
		}
	}
	return words
}

// pace is how often values came, in words; "" if that is not known.
func pace(hz float64) string {
	switch {
	case hz <= 0:
		return ""
	case hz < 0.5:
		return fmt.Sprintf(", one every %.3g s", 1/hz)
	}
	return fmt.Sprintf(", %.3g a second", hz)
}

// Short is a number with as many digits as a person reads: six that count.
func Short(v float64) string {
	return strconv.FormatFloat(v, 'g', 6, 64)
}

// Wanted is the limits with their unit; "" if there are none.
func (m Measurement) Wanted() string {
	switch {
	case !m.Judged():
		return ""
	case m.Series != nil && m.Series.Moved:
		return "limits that moved"
	}
	return WithUnit(m.Range(), m.Unit)
}

// WithUnit is a value with its unit, if it has one.
func WithUnit(value, unit string) string {
	if unit == "" {
		return value
	}
	return value + " " + unit
}

// Single is the value alone, without its unit; of a series the mean, - where there is none.
func (m Measurement) Single() string {
	switch {
	case m.Series == nil:
		return m.Bare()
	case !m.Series.Mean.Finite():
		return "-"
	}
	return Short(float64(m.Series.Mean))
}
