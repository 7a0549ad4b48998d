package sim

import (
	"encoding/json"
	"fmt"
	"time"

	"uparrot/core/output"
)

// truthFile is what stands in a truth file.
type truthFile struct {
	Seed       uint64  `json:"seed"`
	Complete   bool    `json:"complete"` // the bench has ended: nothing more will come
	Directions []Truth `json:"directions"`
}

// truthEvery bounds how often the truth is written, so that writing it does not
// disturb what is being measured.
const truthEvery = 50 * time.Millisecond

// KeepTruth writes the truth to a file as JSON, again soon after it changes,
// until the bench is closed or writing fails. The file is always whole.
func (b *Bench) KeepTruth(path string) error {
	if err := b.writeTruth(path, false); err != nil {
		return err
	}
	for {
		select {
		case <-b.news:
			if err := b.writeTruth(path, false); err != nil {
				return err
			}
			select {
			case <-time.After(truthEvery):
			case <-b.ctx.Done():
			}
		case <-b.ctx.Done():
			return b.writeTruth(path, true)
		}
	}
}

func (b *Bench) writeTruth(path string, complete bool) error {
	text, err := json.MarshalIndent(truthFile{b.air.Seed, complete, b.Truth()}, "", "  ")
	if err == nil {
		err = output.Again(path, append(text, '\n')) // a reader never sees half of one
	}
	if err != nil {
		return fmt.Errorf("write the truth: %w", err)
	}
	return nil
}
