package phrasebook

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// Reading is something that a module tells again and again, and the values in it.
type Reading struct {
	Name    string   `toml:"name" about:"what it is called"`
	Meaning string   `toml:"meaning" about:"what it tells"`
	Heard   string   `toml:"heard" about:"the line; heard text"`
	Packet  string   `toml:"packet" about:"in place of heard, the name of a packet"`
	Say     string   `toml:"say" about:"what asks for it; leave it out if it comes by itself"`
	Every   duration `toml:"every" about:"how often that is said, 1 s unless given" form:"time"`
	Start   string   `toml:"start" about:"what has it come, said once"`
	Stop    string   `toml:"stop" about:"what ends that"`
	Within  duration `toml:"within" about:"one must follow on another in that time" form:"time"`

	// Values are expressions of what was heard, by the names that tables and pictures give
	// them; without any, each capture is one. Units and limits, LOW..HIGH, are by the same names.
	Values map[string]string `toml:"values" about:"expressions of what was heard, by name"`
	Units  map[string]string `toml:"units" about:"the unit of each"`
	Limits map[string]string `toml:"limits" about:"LOW..HIGH of each"`

	Pattern *pattern.Pattern `toml:"-"`
	SaySaid *pattern.Said    `toml:"-"`
	Places  map[string]Place `toml:"-"` // where each expression of Values stands
}

// Names are the names of the values of a reading, in order.
func (r *Reading) Names() []string {
	if len(r.Values) > 0 {
		return slices.Sorted(maps.Keys(r.Values))
	}
	var names []string
	if r.Pattern != nil {
		for _, n := range r.Pattern.Names() {
			names = append(names, n.Name)
		}
	}
	return names
}

// Reading finds a reading by its name.
func (pb *Phrasebook) Reading(name string) (*Reading, bool) {
	return byName(pb.Readings, name, func(r *Reading) string { return r.Name })
}

func (pb *Phrasebook) checkReadings(d *toml.Doc) {
	seen := map[string]bool{}
	for i := range pb.Readings {
		r, path := &pb.Readings[i], fmt.Sprintf("reading[%d]", i)
		if r.Name == "" {
			d.Add(path, "the reading has no name", `Add name = "...".`)
		}
		once(d, path, "readings", r.Name, seen)
		pb.checkHeard(d, r, path)
		for _, once := range [][2]string{{"start", r.Start}, {"stop", r.Stop}} {
			if once[1] != "" {
				said(d, path+"."+once[0], once[1])
			}
		}
		if r.Say != "" {
			r.SaySaid = said(d, path+".say", r.Say)
		} else if r.Every > 0 {
			d.Add(path+".every", "every says how often it is asked for, and nothing says how", `Add say = "...", or leave it out.`)
		}
		r.Places = expressions(d, path+".values.", r.Values)
		for _, table := range []struct {
			key string
			of  map[string]string
		}{{"units", r.Units}, {"limits", r.Limits}} {
			for name, text := range table.of {
				at := path + "." + table.key + "." + name
				if names := r.Names(); !slices.Contains(names, name) {
					d.Add(at, fmt.Sprintf("the reading has no value %q", name), source.DidYouMean(name, names))
				}
				if table.key == "limits" {
					if _, _, err := ParseRange(text); err != nil {
						d.Add(at, err.Error(), "")
					}
				}
			}
		}
	}
}

// checkHeard reads what a reading hears: a line, or a packet.
func (pb *Phrasebook) checkHeard(d *toml.Doc, r *Reading, path string) {
	switch {
	case r.Packet != "" && r.Heard != "":
		d.Add(path+".heard", "a reading is a line or a packet, not both", "Leave one of the two out.")
	case r.Packet != "":
		p, ok := pb.Packet(r.Packet)
		if !ok {
			var names []string
			for _, one := range pb.Packets {
				names = append(names, one.Name)
			}
			d.Add(path+".packet", fmt.Sprintf("there is no packet %q", r.Packet), source.DidYouMean(r.Packet, names))
			return
		}
		r.Pattern = p.Pattern
	case r.Heard == "" && !d.Slipped("heard") && !d.Slipped("packet"):
		d.Add(path, "nothing tells what is heard of the reading", `Add heard = "...", or packet = "...".`)
	case r.Heard != "":
		r.Pattern = heard(d, path+".heard", r.Heard)
	}
}

// ParseRange reads limits, LOW..HIGH, of which one may be left out.
func ParseRange(text string) (low, high *float64, err error) {
	from, to, ok := strings.Cut(text, "..")
	from, to = strings.TrimSpace(from), strings.TrimSpace(to)
	if !ok || from == "" && to == "" {
		return nil, nil, fmt.Errorf("%q is not a range: write LOW..HIGH, such as 14..16; one side may be left out", text)
	}
	for _, side := range []struct {
		text string
		to   **float64
	}{{from, &low}, {to, &high}} {
		if side.text == "" {
			continue
		}
		v, err := strconv.ParseFloat(side.text, 64)
		if err != nil || v != v || v-v != 0 {
			return nil, nil, fmt.Errorf("%q is no number: wanted limits LOW..HIGH, such as 14..16", side.text)
		}
		*side.to = &v
	}
	if low != nil && high != nil && *low > *high {
		return nil, nil, fmt.Errorf("the limits %s are the wrong way round: wanted %s..%s", text, to, from)
	}
	return low, high, nil
}
