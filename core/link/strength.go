package link

import "uparrot/core/stats"

// Minute is what was sent and lost in one minute of a run.
type Minute struct {
	Minute int `json:"minute"` // from 0
	Sent   int `json:"sent"`
	Lost   int `json:"lost"`
}

// Level is what was sent and lost at one strength: losses are put at the strength
// of the last frame before them that arrived.
type Level struct {
	DBm  int `json:"dbm"`
	Sent int `json:"sent"`
	Lost int `json:"lost"`
}

// Margin is how far the mean strength is above the strength at which loss begins.
type Margin struct {
	DB    float64 `json:"db"`
	Level float64 `json:"level_dbm"` // where loss begins; the least strength that was heard if it never did
	Seen  bool    `json:"seen"`      // loss was seen to begin there; if not, the margin is at least so much
}

// Loss begins where, at a strength and all that were put together with it to have
// marginFrames frames, it is above marginLoss with 95 % confidence.
const (
	marginLoss   = 0.05
	marginFrames = 30
)

// margin looks from the strongest level down for where loss begins.
func (d *Direction) margin() *Margin {
	levels, mean := d.Levels, d.Strength
	if mean == nil || len(levels) == 0 {
		return nil
	}
	sent, lost, sum := 0, 0, 0
	for i := len(levels) - 1; i >= 0; i-- {
		l := levels[i]
		sent, lost, sum = sent+l.Sent, lost+l.Lost, sum+l.DBm*l.Sent
		if sent < marginFrames {
			continue
		}
		if d.LossOf(lost, sent).Low > marginLoss {
			at := stats.Round(float64(sum)/float64(sent), 1)
			return &Margin{DB: stats.Round(mean.Mean-at, 1), Level: at, Seen: true}
		}
		sent, lost, sum = 0, 0, 0
	}
	return &Margin{DB: stats.Round(mean.Mean-mean.Min, 1), Level: mean.Min}
}
