package talk

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"uparrot/core/output"
	"uparrot/core/source"
)

// Pins are the phrases that a person wants at hand, by the family of the modules, each as
// it is typed. They are kept in a file of the person's own.
type Pins struct {
	file string
	all  map[string][]string
}

// MostPins is how many phrases of a family can be pinned: as many as there are digits.
const MostPins = 9

// ReadPins reads the pins in a folder, where there may be none yet.
func ReadPins(folder string) (*Pins, error) {
	p := &Pins{file: filepath.Join(folder, "phrases.json"), all: map[string][]string{}}
	text, err := source.ReadFile(p.file)
	if errors.Is(err, os.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &p.all)
	}
	if p.all == nil { // a file that says null
		p.all = map[string][]string{}
	}
	if err != nil {
		return p, fmt.Errorf("read the pinned phrases: %s: %w", p.file, err)
	}
	return p, nil
}

// Of are those of a family, the first at digit 1.
func (p *Pins) Of(family string) []string { return p.all[family] }

// Toggle pins what is typed, or takes its pin away, and keeps that. It returns the digit
// at which it is now, 0 if it is not pinned any more.
func (p *Pins) Toggle(family, typed string) (digit int, err error) {
	list := p.all[family]
	if i := slices.Index(list, typed); i >= 0 {
		p.all[family] = slices.Delete(slices.Clone(list), i, i+1)
	} else {
		if len(list) == MostPins {
			return 0, fmt.Errorf("%d phrases are pinned already: take one away first", MostPins)
		}
		p.all[family] = append(list, typed)
		digit = len(p.all[family])
	}
	text, err := json.MarshalIndent(p.all, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(p.file), 0o700)
	}
	if err == nil {
		err = output.Again(p.file, append(text, '\n'))
	}
	if err != nil {
		err = fmt.Errorf("keep the pinned phrases: %w", err)
	}
	return digit, err
}
