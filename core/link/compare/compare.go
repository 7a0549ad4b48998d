// Package compare tells whether the links of two runs are really different.
package compare

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/source"
	"uparrot/core/stats"
)

// ReadRun reads the summary of a link test: from a file that holds it as JSON,
// or from a record, of which the last link test counts.
func ReadRun(path string) (link.Summary, error) {
	var sum link.Summary
	text, err := source.Open(path)
	if err != nil {
		return sum, fmt.Errorf("read the run: %w", err)
	}
	defer text.Close()
	br := bufio.NewReader(text)
	head, _ := br.Peek(64) // shorter files are told by what follows
	if record.IsRecord(head) {
		return lastLink(path, br)
	}
	var either struct {
		link.Summary
		Checkpointed link.Summary `json:"summary"`
	}
	err = json.NewDecoder(br).Decode(&either)
	if sum = either.Summary; sum.Kind == link.CheckpointKind {
		sum = either.Checkpointed
	}
	if err != nil {
		return sum, fmt.Errorf("%s is neither the summary of a link test nor a record: %w", path, err)
	}
	if sum.Kind != link.Kind {
		return sum, fmt.Errorf("%s is not the summary of a link test: its kind is %q", path, sum.Kind)
	}
	return sum, nil
}

func lastLink(path string, br *bufio.Reader) (sum link.Summary, err error) {
	found := errors.New("it holds no link test")
	if _, rerr := record.Read(br, func(e record.Event) error {
		if e.Kind != record.Link {
			return nil
		}
		sum, found = link.Summary{}, nil
		return json.Unmarshal(e.Data, &sum)
	}); rerr != nil {
		return sum, fmt.Errorf("%s: %w", path, rerr)
	}
	if found != nil {
		return sum, fmt.Errorf("%s: %w", path, found)
	}
	return sum, nil
}

// Comparison is one direction of a run beside the same of another.
type Comparison struct {
	Direction string           `json:"direction"`
	A         Side             `json:"a"`
	B         Side             `json:"b"`
	Loss      stats.Difference `json:"loss"` // of A above B
	LossShown bool             `json:"loss_shown"`
	MoreToSay int              `json:"frames_to_show"` // in each run, to show a difference of loss of the size asked for
	Ranks     stats.Ranks      `json:"latency"`        // A against B
	Slower    bool             `json:"latency_shown"`
	Order     string           `json:"order,omitempty"` // OrderUnknown, or ""
}

// OrderUnknown is said of runs whose files do not tell in which order latencies and losses
// came: how much neighbours resemble each other is not known then, and nothing is called
// different.
const OrderUnknown = "order unknown"

// Correct corrects the comparisons of latency of several runs for being several (Holm).
func Correct(all ...[]Comparison) {
	var ps []float64
	var of []*Comparison
	for _, list := range all {
		for i := range list {
			if list[i].Order == "" {
				ps, of = append(ps, list[i].Ranks.P), append(of, &list[i])
			}
		}
	}
	for i, p := range stats.Holm(ps) {
		of[i].Ranks.Corrected = p
		of[i].Slower = of[i].Ranks.Shown()
	}
}

// Side is what one run found in a direction.
type Side struct {
	Name    string        `json:"name"`
	Sent    int           `json:"sent"`
	Lost    int           `json:"lost"`
	Loss    stats.Share   `json:"loss"`
	Doubt   string        `json:"doubt,omitempty"` // what its interval cannot know
	Latency *link.Latency `json:"latency_ms"`
}

// Runs holds two runs against each other, direction by direction in their
// order. Size is the difference of loss for which the number of frames is told.
func Runs(nameA string, a link.Summary, nameB string, b link.Summary, size float64) ([]Comparison, error) {
	if len(a.Directions) != len(b.Directions) {
		return nil, fmt.Errorf("%s has %d directions and %s has %d: only runs of one sort can be compared", nameA, len(a.Directions), nameB, len(b.Directions))
	}
	var all []Comparison
	for i := range a.Directions {
		da, db := &a.Directions[i], &b.Directions[i]
		c := Comparison{
			Direction: da.From + " to " + da.To,
			A:         Side{nameA, da.Sent, da.Lost, da.Loss, da.Doubt, da.LatencyMS},
			B:         Side{nameB, db.Sent, db.Lost, db.Loss, db.Doubt, db.LatencyMS},
			Loss:      stats.Newcombe(da.Loss, db.Loss),
			Ranks:     stats.Ranks{P: 1, Corrected: 1, Effect: 0.5},
		}
		if da.Delays != nil && db.Delays != nil {
			came, other := da.Delays.Came(), db.Delays.Came()
			c.Ranks = stats.Permutation(&came, &other)
		} else if da.LatencyMS != nil && db.LatencyMS != nil {
			c.Order = OrderUnknown
		}
		if other := db.From + " to " + db.To; other != c.Direction {
			c.Direction += ", " + other
		}
		if da.Effective == 0 || db.Effective == 0 { // its interval does not know how losses stand together
			c.Order = OrderUnknown
		}
		c.LossShown, c.Slower = c.Loss.Shown() && c.Order == "", c.Ranks.Shown() && c.Order == ""
		common := stats.Wilson(da.Lost+db.Lost, da.Sent+db.Sent).Ratio
		c.MoreToSay = stats.FramesToShow(common, size, 1/min(da.Apart(), db.Apart()))
		all = append(all, c)
	}
	return all, nil
}
