package record

import (
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"uparrot/core/series"
)

// SeriesBegins is the value of a Series event: of what values come from here on.
type SeriesBegins struct {
	Number int      `json:"number"` // by which Samples name it; counted through the record
	What   string   `json:"what"`
	Unit   string   `json:"unit,omitempty"`
	Low    *float64 `json:"low,omitempty"` // of the first value
	High   *float64 `json:"high,omitempty"`
	Judged bool     `json:"judged,omitempty"`
	Port   string   `json:"port,omitempty"` // where it is heard, where that is one place
}

// Samples are values of a series that came one after another, the value of a Samples event:
// numbers, or texts. The time of the event is that of the last.
type Samples struct {
	Series  int
	At      []time.Time
	Values  []float64
	Texts   []string // in place of Values
	Outside []int    // places of those that are not within their limits
}

// samplesJSON is how they stand in a record.
type samplesJSON struct {
	Series  int             `json:"series"`
	US      []int64         `json:"us"`
	Values  []series.Number `json:"values,omitempty"`
	Texts   []string        `json:"texts,omitempty"`
	Outside []int           `json:"outside,omitempty"`
}

// MarshalJSON writes times as microseconds since the sample before.
func (s Samples) MarshalJSON() ([]byte, error) {
	b := make([]byte, 0, 64+16*len(s.At))
	b = strconv.AppendInt(append(b, `{"series":`...), int64(s.Series), 10)
	b = append(b, `,"us":[`...)
	before := int64(0)
	for i, at := range s.At {
		us := at.UnixMicro()
		if i == 0 {
			before = us
		} else {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, us-before, 10)
		before = us
	}
	b = append(b, ']')
	if s.Texts != nil {
		texts, err := json.Marshal(s.Texts)
		if err != nil {
			return nil, err
		}
		return append(append(append(b, `,"texts":`...), texts...), '}'), nil
	}
	b = append(b, `,"values":[`...)
	for i, v := range s.Values {
		if i > 0 {
			b = append(b, ',')
		}
		if n := series.Number(v); n.Finite() {
			b = strconv.AppendFloat(b, v, 'g', -1, 64)
		} else {
			b = strconv.AppendQuote(b, n.String())
		}
	}
	b = append(b, ']')
	for i, at := range s.Outside {
		b = append(b, []string{`,"outside":[`, `,`}[min(i, 1)]...)
		b = strconv.AppendInt(b, int64(at), 10)
	}
	if len(s.Outside) > 0 {
		b = append(b, ']')
	}
	return append(b, '}'), nil
}

// SamplesOf reads a Samples event.
func SamplesOf(e Event) (Samples, error) {
	j, err := Decode[samplesJSON](e)
	if err != nil {
		return Samples{}, err
	}
	s := Samples{Series: j.Series, At: make([]time.Time, len(j.US)), Texts: j.Texts, Outside: j.Outside}
	if n := max(len(j.Values), len(j.Texts)); n != len(j.US) || len(j.Values) > 0 && len(j.Texts) > 0 {
		return s, fmt.Errorf("a series has %d times for %d values", len(j.US), n)
	}
	at := e.Time.UnixMicro()
	for i := len(j.US) - 1; i >= 0; i-- {
		s.At[i] = time.UnixMicro(at).In(e.Time.Location())
		at -= j.US[i]
	}
	for _, v := range j.Values {
		s.Values = append(s.Values, float64(v))
	}
	for _, i := range j.Outside {
		if i < 0 || i >= len(s.At) {
			return s, fmt.Errorf("a series has no value %d", i)
		}
	}
	return s, nil
}

// Mark is the value of a Note event by which a person marks a moment.
type Mark struct {
	Word string `json:"mark"`
}

// RoundMark is the value of a Round event: a repetition begins another time, or is over.
type RoundMark struct {
	Number  int  `json:"number"`            // from 1; of all times where it is over
	Outside bool `json:"outside,omitempty"` // in the time before it some value was not within its limits
	Over    bool `json:"over,omitempty"`

	Readings int `json:"readings,omitempty"` // that came in the time before it, of a watch that asks for none
}
