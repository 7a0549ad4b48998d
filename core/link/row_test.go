package link

import (
	"bytes"
	"math"
	"reflect"
	"testing"
	"time"

	"uparrot/core/record"
)

// A row comes out of a record as it went in, to the nanosecond.
func TestRowOnRecord(t *testing.T) {
	at := time.Date(2026, 11, 2, 12, 0, 0, 123456789, time.UTC)
	for _, want := range []Row{
		{Number: 7, Planned: at.Add(-1234 * time.Nanosecond), Sent: at, Arrived: at.Add(48_680_001 * time.Nanosecond), State: Late, Copies: 2, Order: true, Strength: -110.5, SNR: 6.5},
		{Number: 8, Planned: at, Sent: at, State: Lost, Strength: math.NaN(), SNR: math.NaN()},
		{Planned: at, Sent: at, Arrived: at, State: OnTime, Strength: 0, SNR: math.NaN()},
	} {
		var buf bytes.Buffer
		w := record.New(&buf, record.Origin{})
		w.Event(want.event("valley", "summit"))
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		var e record.Event
		if _, err := record.Read(&buf, func(one record.Event) error {
			if one.Kind == record.Frame {
				e = one
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		from, to, got, err := RowOf(e)
		if err != nil || from != "valley" || to != "summit" {
			t.Fatalf("%s to %s, %v", from, to, err)
		}
		for _, pair := range [][2]*float64{{&got.Strength, &want.Strength}, {&got.SNR, &want.SNR}} {
			if math.IsNaN(*pair[0]) && math.IsNaN(*pair[1]) {
				*pair[0], *pair[1] = 0, 0
			}
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("got %+v\nwant %+v", got, want)
		}
	}
	if _, _, _, err := RowOf(record.Event{Data: []byte("[]")}); err == nil {
		t.Error("a list is a row")
	}
}
