package phrasebook

import (
	"fmt"
	"slices"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/source"
	"uparrot/core/source/toml"
)

// Packet is bytes that a module sends or takes, and what they hold.
type Packet struct {
	Name    string `toml:"name" about:"by which procedures say and hear it"`
	Meaning string `toml:"meaning" about:"what it is"`
	Bytes   string `toml:"bytes" about:"its bytes and fields, such as {hex A7}{speed:u16}{sum:u8}"`

	// Made are fields that are made of others, by expressions of the language. Before is
	// the name of the bytes that stand before the field.
	Made map[string]string `toml:"made" about:"fields that are made of others, by expressions; before is the bytes before the field"`

	Pattern *pattern.Pattern `toml:"-"`
	Places  map[string]Place `toml:"-"` // where each expression of Made stands
}

// Place is where something stands in a phrasebook, for what is found wrong with it later.
type Place = source.Mistake

// Before is the name of the bytes before a field, where that is made of them.
const Before = "before"

// Packet finds a packet by its name.
func (pb *Phrasebook) Packet(name string) (*Packet, bool) {
	for i := range pb.Packets {
		if pb.Packets[i].Name == name {
			return &pb.Packets[i], true
		}
	}
	return nil, false
}

func (pb *Phrasebook) checkPackets(d *toml.Doc) {
	seen := map[string]bool{}
	for i := range pb.Packets {
		p, path := &pb.Packets[i], fmt.Sprintf("packet[%d]", i)
		switch {
		case !pattern.IsName(p.Name):
			d.Add(path+".name", fmt.Sprintf("%q cannot be the name of a packet", p.Name), `Write name = "...": letters, digits and underscores, a letter first.`)
		case seen[p.Name]:
			d.Add(path+".name", fmt.Sprintf("there are two packets named %q", p.Name), "Give each its own name.")
		}
		seen[p.Name] = true
		if p.Pattern = heard(d, path+".bytes", p.Bytes); p.Pattern == nil {
			continue
		}
		if !p.Pattern.Fixed() {
			d.Add(path+".bytes", "nothing tells where an open place of this packet ends", "Write numbers such as {speed:u16}, {body:bytes(length)} and bytes such as {hex A7} alone.")
		}
		var fields []string
		for _, n := range p.Pattern.Names() {
			if fields = append(fields, n.Name); n.Name == Before {
				d.AddInValue(path+".bytes", p.Bytes, n.Offset, len(n.Name), Before+" is the bytes before a field", "Give the field another name.")
			}
		}
		p.Places = map[string]Place{}
		for name, text := range p.Made {
			at := path + ".made." + name
			if p.Places[name] = d.Place(at, text); !slices.Contains(fields, name) {
				d.Add(at, fmt.Sprintf("the packet has no field %q", name), source.DidYouMean(name, fields))
			}
			if strings.TrimSpace(text) == "" {
				d.Add(at, "there is no expression", "Write what the field is made of, such as sum8(before).")
			}
		}
	}
}
