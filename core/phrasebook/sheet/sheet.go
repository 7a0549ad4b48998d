// Package sheet is a phrasebook as a page to read: what one module family understands and answers, in
// tables; and what changed from one version of it to another.
package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"uparrot/core/phrasebook"
)

// Sheet is a phrasebook as a page.
type Sheet struct {
	Title    string
	About    string
	Sections []Section
}

// Section is one table of it. The first column names the row.
type Section struct {
	Title string
	Head  []string
	Rows  [][]string
	Code  []bool // columns that are words of the module
}

// Of is the page of a phrasebook.
func Of(pb *phrasebook.Phrasebook) *Sheet {
	s := &Sheet{Title: pb.Family, About: pb.About}
	s.add("How it is spoken to", []string{"what", "is"}, []bool{false, true}, line(pb))
	var rows [][]string
	for _, x := range pb.Settings {
		rows = append(rows, []string{x.Name, x.Meaning, takes(x), x.Default, firstOf(x.Read, x.ReadPacket), firstOf(x.Answer, x.AnswerPacket), firstOf(x.Write, x.WritePacket), also(x)})
	}
	s.add("Settings", []string{"setting", "meaning", "takes", "as delivered", "read", "answer", "write", "besides"}, []bool{false, false, false, true, true, true, true, false}, rows)
	rows = nil
	for _, x := range pb.Identity {
		rows = append(rows, []string{x.Name, x.Meaning, firstOf(x.Read, x.ReadPacket), firstOf(x.Answer, x.AnswerPacket)})
	}
	s.add("What it says that it is", []string{"what", "meaning", "read", "answer"}, []bool{false, false, true, true}, rows)
	rows = nil
	for _, x := range pb.Commands {
		var besides []string
		for _, one := range []struct {
			is   bool
			what string
		}{{x.Restart, "starts again"}, {x.Carries, "the line carries plain data from then on"}, {x.Follows != "", "the payload follows after " + x.Follows}} {
			if one.is {
				besides = append(besides, one.what)
			}
		}
		rows = append(rows, []string{x.Say, x.Meaning, strings.Join(x.Answer, "\n"), strings.Join(besides, "; ")})
	}
	s.add("Commands", []string{"command", "meaning", "answer", "besides"}, []bool{true, false, true, false}, rows)
	rows = nil
	for _, x := range pb.Notices {
		rows = append(rows, []string{x.Name, x.Heard, x.Meaning})
	}
	s.add("What it sends by itself", []string{"notice", "heard", "meaning"}, []bool{false, true, false}, rows)
	rows = nil
	for _, h := range pb.Refusal.Heard {
		rows = append(rows, []string{h, "it says no"})
	}
	for _, n := range slices.SortedFunc(maps.Keys(pb.Refusal.Meaning), byNumber) {
		what := pb.Refusal.Meaning[n]
		switch n {
		case pb.Refusal.Unknown:
			what += " (so it answers an unknown command)"
		case pb.Refusal.Range:
			what += " (so it answers a value out of range)"
		}
		rows = append(rows, []string{n, what})
	}
	s.add("Refusals", []string{"heard", "meaning"}, []bool{true, false}, rows)
	s.add("Readings", []string{"reading", "meaning", "heard", "asked by", "values"}, []bool{false, false, true, true, false}, readings(pb))
	rows = nil
	for _, x := range pb.Packets {
		var made []string
		for _, name := range slices.Sorted(maps.Keys(x.Made)) {
			made = append(made, name+" = "+x.Made[name])
		}
		rows = append(rows, []string{x.Name, x.Meaning, x.Bytes, strings.Join(made, "\n")})
	}
	s.add("Packets", []string{"packet", "meaning", "bytes", "made"}, []bool{false, false, true, true}, rows)
	if c := pb.Carrier; c != nil {
		s.add("How a payload travels", []string{"what", "is"}, []bool{false, true}, told([][]string{{"said", c.Send}, {"arrives as", c.Arrives}, {"own address, a setting", c.Address}, {"address of everyone", c.Broadcast}, {"greatest, bytes", number(c.Greatest)}}))
	}
	s.add("Round its settings", []string{"when", "done"}, []bool{false, true}, told([][]string{
		{"before", strings.Join(pb.Round.Enter, "\n")}, {"after", strings.Join(pb.Round.Leave, "\n")}, {"to keep them", strings.Join(pb.Round.Save, "\n")}, {"to restart it", strings.Join(pb.Round.Restart, "\n")},
	}))
	s.add("What it switches", []string{"what", "is"}, []bool{false, true}, told([][]string{{"switches", strings.Join(pb.Switch.Names, "\n")}, {"on", strings.Join(pb.Switch.On, "\n")}, {"off", strings.Join(pb.Switch.Off, "\n")}}))
	return s
}

// add adds a section, without columns that are empty in every row, unless it has no rows.
func (s *Sheet) add(title string, head []string, code []bool, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	x := Section{Title: title}
	var kept []int
	for i := range head {
		if i == 0 || slices.ContainsFunc(rows, func(r []string) bool { return r[i] != "" }) {
			kept = append(kept, i)
			x.Head, x.Code = append(x.Head, head[i]), append(x.Code, code[i])
		}
	}
	for _, r := range rows {
		var row []string
		for _, i := range kept {
			row = append(row, r[i])
		}
		x.Rows = append(x.Rows, row)
	}
	s.Sections = append(s.Sections, x)
}

// line is how a module of the family is spoken to.
func line(pb *phrasebook.Phrasebook) [][]string {
	setup := pb.Setup()
	echo, complete := "", ""
	if pb.Echo {
		echo = "yes"
	}
	if pb.Complete {
		complete = "all that it understands is told here"
	}
	banner := ""
	if pb.Banner != nil {
		banner = pb.Banner.Heard
	}
	phrases := func(list phrasebook.Phrases) string {
		var all []string
		for _, p := range list {
			all = append(all, p.String())
		}
		return strings.Join(all, "\n")
	}
	return told([][]string{
		{"line", setup.Words()}, {"commands", complete}, {"repeats what is said", echo}, {"prompt", phrases(setup.Prompt)}, {"waits in an answer", phrases(setup.Pager)},
		{"asks for a name", phrases(setup.Login)}, {"asks for a password", phrases(setup.Password)}, {"when it has started", banner}, {"an answer ends with", strings.Join(pb.Final.Heard, "\n")},
	})
}

// told are the rows that tell something.
func told(rows [][]string) [][]string {
	return slices.DeleteFunc(rows, func(r []string) bool { return r[1] == "" })
}

func readings(pb *phrasebook.Phrasebook) (rows [][]string) {
	for i := range pb.Readings {
		x := &pb.Readings[i]
		var values []string
		for _, name := range x.Names() {
			v := name
			if e := x.Values[name]; e != "" && e != name {
				v += " = " + e
			}
			v = strings.TrimSpace(v + " " + x.Units[name])
			if l := x.Limits[name]; l != "" {
				v += " (" + l + ")"
			}
			values = append(values, v)
		}
		rows = append(rows, []string{x.Name, x.Meaning, firstOf(x.Heard, "packet "+x.Packet), firstOf(x.Say, x.Start), strings.Join(values, "\n")})
	}
	return rows
}

// takes is what values a setting takes.
func takes(s phrasebook.Setting) string {
	kind := map[string]string{"int": "whole number", "num": "number", "text": "text"}[s.Type]
	if len(s.Range) == 2 {
		kind = fmt.Sprintf("%v to %v", s.Range[0], s.Range[1])
		if s.Type == "text" {
			kind += " characters"
		}
	}
	return strings.TrimSpace(kind + " " + s.Unit)
}

// also is what else is to be known of a setting.
func also(s phrasebook.Setting) string {
	var all []string
	if s.Effect == "restart" {
		all = append(all, "takes effect at a restart")
	}
	if s.Pair != "" {
		all = append(all, s.Pair+" on both of a pair")
	}
	if len(s.After) > 0 {
		all = append(all, "after "+strings.Join(s.After, ", "))
	}
	if s.Secret {
		all = append(all, "secret")
	}
	if s.Firmware != "" {
		all = append(all, "from firmware "+s.Firmware)
	}
	return strings.Join(all, "; ")
}

func number(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// byNumber puts numbers in their order.
func byNumber(a, b string) int {
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(a, b)
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
