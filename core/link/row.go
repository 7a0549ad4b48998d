package link

import (
	"encoding/json"
	"fmt"
	"math"
	"time"

	"uparrot/core/record"
)

// rowData is a frame as it stands in a record: its event's time is when it was
// sent, to the nanosecond.
type rowData struct {
	From      string   `json:"from"`
	To        string   `json:"to"`
	Number    uint64   `json:"number"`
	PlannedNS int64    `json:"planned_ns"` // when it was to be sent, from when it was
	LatencyNS *int64   `json:"latency_ns,omitempty"`
	State     State    `json:"state"`
	Copies    int      `json:"copies,omitempty"`
	Order     bool     `json:"reordered,omitempty"`
	Harm      Harm     `json:"came,omitempty"` // how a lost frame came
	Strength  *float64 `json:"strength_dbm,omitempty"`
	SNR       *float64 `json:"snr_db,omitempty"`
}

// FrameSeen is a frame whose fate is known, as those who watch a test are told.
type FrameSeen struct {
	From, To string
	Row
}

// event is a row as those who listen are told and as it stands in a record.
func (r Row) event(from, to string) record.Event {
	var seen any = FrameSeen{from, to, r} // one piece of memory for both: there are many frames
	return record.Event{Time: r.Sent, Kind: record.Frame, Value: seen, Live: seen}
}

// MarshalJSON is the frame as it stands in a record.
func (f FrameSeen) MarshalJSON() ([]byte, error) {
	d := rowData{From: f.From, To: f.To, Number: f.Number, PlannedNS: f.Planned.Sub(f.Sent).Nanoseconds(), State: f.State, Copies: f.Copies, Order: f.Order, Harm: f.Harm}
	if !f.Arrived.IsZero() {
		ns := f.Arrived.Sub(f.Sent).Nanoseconds()
		d.LatencyNS = &ns
	}
	if !math.IsNaN(f.Strength) {
		d.Strength = &f.Strength
	}
	if !math.IsNaN(f.SNR) {
		d.SNR = &f.SNR
	}
	return json.Marshal(d)
}

// RowOf is the row that an event of a record tells of.
func RowOf(e record.Event) (from, to string, r Row, err error) {
	var d rowData
	if err := json.Unmarshal(e.Data, &d); err != nil {
		return "", "", r, fmt.Errorf("the record's row of a frame cannot be read: %w", err)
	}
	r = Row{Number: d.Number, Planned: e.Time.Add(time.Duration(d.PlannedNS)), Sent: e.Time, State: d.State, Copies: d.Copies, Order: d.Order, Harm: d.Harm, Strength: math.NaN(), SNR: math.NaN()}
	if d.LatencyNS != nil {
		r.Arrived = e.Time.Add(time.Duration(*d.LatencyNS))
	}
	if d.Strength != nil {
		r.Strength = *d.Strength
	}
	if d.SNR != nil {
		r.SNR = *d.SNR
	}
	return d.From, d.To, r, nil
}
