package phrasebook

import (
	"fmt"
	"slices"

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
	return byName(pb.Packets, name, func(p *Packet) string { return p.Name })
}

func (pb *Phrasebook) checkPackets(d *toml.Doc) {
	seen := map[string]bool{}
	for i := range pb.Packets {
		p, path := &pb.Packets[i], fmt.Sprintf("packet[%d]", i)
		if !pattern.IsName(p.Name) {
			d.Add(path+".name", fmt.Sprintf("%q cannot be the name of a packet", p.Name), `Write name = "...": letters, digits and underscores, a letter first.`)
		}
		once(d, path, "packets", p.Name, seen)
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
		p.Places = expressions(d, path+".made.", p.Made)
		for name := range p.Made {
			if !slices.Contains(fields, name) {
				d.Add(path+".made."+name, fmt.Sprintf("the packet has no field %q", name), source.DidYouMean(name, fields))
			}
		}
	}
}
