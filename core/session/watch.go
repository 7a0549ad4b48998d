package session

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uparrot/core/bench"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/source"
)

// Watch is values to be watched, as a person asks for them: what is not said a phrasebook's
// readings tell.
type Watch struct {
	Stations []*bench.Station
	Heard    []string      // lines, as in heard text
	Packets  []string      // ... by their names in the phrasebook
	Readings []string      // names of readings of the phrasebook; without any, and without Heard and Packets, all
	Values   []string      // NAME=EXPRESSION [in UNIT]
	Limits   []string      // NAME=LOW..HIGH [UNIT]
	Poll     string        // said at a pace; "" says nothing but what the readings say
	Every    time.Duration // of that; 0 is one second
	Start    string        // said once before; "" says nothing but what the readings say
	Stop     string        // ... and after
	Within   time.Duration // one must follow on another
	For      time.Duration // 0 is as long as it takes
	Count    int           // readings; 0 is however many come
	Until    string        // a condition
	Reopen   bool          // a port that goes away is waited for
	Broken   string        // the share that may be broken, such as 1%; "" is none
}

// limit is what a value is held against.
type limit struct{ span, unit string }

// part is one sort of reading at one port, as it is written down.
type part struct {
	head   string   // what is heard
	names  []string // of what it captures
	values []named
	within time.Duration
	poll   string
	start  string // said before
	stop   string // ... and after
}

// named is a value and its unit.
type named struct{ name, is, unit, limits string }

// Text is the watch as a procedure, by the names that its ports have there.
func (w *Watch) Text() (text string, at map[string]string, err error) {
	limits, err := w.limits()
	if err != nil {
		return "", nil, err
	}
	values, err := w.values()
	if err != nil {
		return "", nil, err
	}
	at = map[string]string{}
	var header, starts, polls, readings, stops strings.Builder
	used := map[string]bool{}
	untils := 0
	var names []string
	for _, st := range w.Stations {
		name := w.portName(st, at)
		at[name] = st.Name
		names = append(names, name)
		fmt.Fprintf(&header, "port %s", name)
		if st.Phrasebook != nil {
			fmt.Fprintf(&header, ": phrasebook %q", st.Phrasebook.File)
		}
		header.WriteByte('\n')
		parts, err := w.parts(st, values, name)
		if err != nil {
			return "", nil, err
		}
		if w.Poll != "" {
			polls.WriteString(poll(st, name, w.Poll, w.Every))
		}
		starts.WriteString(said(st, name, w.Start))
		stops.WriteString(said(st, name, w.Stop))
		for _, p := range parts {
			starts.WriteString(p.start)
			stops.WriteString(p.stop)
			polls.WriteString(p.poll)
			readings.WriteString(p.reading())
			for _, v := range p.values {
				readings.WriteString(v.line(limits, used, name, len(w.Stations) > 1))
			}
			if w.Until != "" && w.untilKnown(p) {
				untils++
				fmt.Fprintf(&readings, "        until %s\n", w.Until)
			}
		}
	}
	if err := w.unused(limits, used, untils); err != nil {
		return "", nil, err
	}
	step := func(title, body string) string {
		if body == "" {
			return ""
		}
		return fmt.Sprintf("\nstep %s\n%send\n", title, body)
	}
	watch := fmt.Sprintf("    watch%s\n%s%s    end\n", w.ends(), polls.String(), readings.String())
	return fmt.Sprintf("procedure \"Watch %s\"\n\n%s", strings.Join(names, ", "), header.String()) +
		step(`"start"`, starts.String()) + step(`"watch"`, watch) + step(`"stop" always`, stops.String()), at, nil
}

// unused reports what a person has asked for and no reading has.
func (w *Watch) unused(limits map[string]limit, used map[string]bool, untils int) error {
	for name := range limits {
		if !used[name] {
			return misuse("--limit %s: no value is called so. %s", name, source.DidYouMean(name, slices.Sorted(maps.Keys(used))))
		}
	}
	if w.Until != "" && untils == 0 {
		return misuse("--until-true %s: no reading has the values that it reads", w.Until)
	}
	return nil
}

// reading is the line that says what is heard.
func (p part) reading() string {
	head := p.head
	if p.within > 0 {
		head = strings.Replace(head, ":", fmt.Sprintf(" within %v:", p.within), 1)
	}
	return "    reading " + head + "\n"
}

// line is the statement that keeps a value, or holds it against its limits.
func (v named) line(limits map[string]limit, used map[string]bool, port string, several bool) string {
	what := v.name
	if used[v.name] = true; several {
		what = port + " " + v.name
	}
	l, judged := limits[port+"."+v.name]
	if judged {
		used[port+"."+v.name] = true
	} else {
		l, judged = limits[v.name]
	}
	if !judged && v.limits != "" {
		l, judged = limit{span: v.limits}, true
	}
	if l.unit == "" {
		l.unit = v.unit
	}
	if judged {
		unit := l.unit
		if unit != "" {
			unit = " " + unit
		}
		return fmt.Sprintf("        limit %s in %s%s %q\n", v.is, l.span, unit, what)
	}
	in := ""
	if l.unit != "" {
		in = " in " + l.unit
	}
	return fmt.Sprintf("        note %s%s %q\n", v.is, in, what)
}

// ends is how a watch ends, as its statement says it.
func (w *Watch) ends() string {
	words := ""
	if w.Count > 0 {
		words += fmt.Sprintf(" %d times", w.Count)
	}
	switch {
	case w.For > 0:
		words += fmt.Sprintf(" for %v", w.For)
	case w.Count == 0 && w.Until == "": // a person ends it
		words += " for 31 * 24 * 3600"
	}
	if w.Broken != "" {
		words += " broken <= " + w.Broken
	}
	if w.Reopen {
		words += " reopen"
	}
	return words
}

// untilKnown reports whether a part of it has all that the condition reads. One that cannot
// be read is left for the language to tell of.
func (w *Watch) untilKnown(p part) bool {
	names, err := procedure.NamesIn(w.Until)
	if err != nil {
		return true
	}
	for _, n := range names {
		if !slices.Contains(p.names, n) {
			return false
		}
	}
	return true
}

// portName is a name for a port that the language takes.
func (w *Watch) portName(st *bench.Station, taken map[string]string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return -1
	}, st.Name[strings.LastIndexAny(st.Name, `/\:`)+1:])
	if !pattern.IsName(name) || procedure.Reserved(name) {
		name = "port" + name
	}
	for base, n := name, 2; taken[name] != ""; n++ {
		name = fmt.Sprint(base, "_", n)
	}
	return name
}

// parts are the readings at a port.
func (w *Watch) parts(st *bench.Station, values []named, port string) ([]part, error) {
	var parts []part
	bytes := st.Setup.Dialect == phrasebook.Bytes
	word := map[bool]string{true: "bytes "}[bytes]
	for _, text := range w.Heard {
		pat, err := pattern.Compile(text)
		if err != nil {
			return nil, misuse("%q: %v", text, err)
		}
		parts = append(parts, w.part(fmt.Sprintf("%s%s: \"%s\"", word, port, text), pat, values, len(w.Heard)+len(w.Packets) == 1))
	}
	for _, name := range w.Packets {
		var known []string
		if st.Phrasebook != nil {
			for _, p := range st.Phrasebook.Packets {
				known = append(known, p.Name)
			}
		}
		if st.Phrasebook == nil || len(known) == 0 {
			return nil, misuse("--packet %s: no phrasebook of %s tells of packets", name, st.Name)
		}
		p, ok := st.Phrasebook.Packet(name)
		if !ok {
			return nil, misuse("--packet %s: %s has no such packet. %s", name, st.Phrasebook.File, source.DidYouMean(name, known))
		}
		one := w.part(fmt.Sprintf("packet %s: %s", port, name), p.Pattern, values, len(w.Packets) == 1)
		one.drop(procedure.MadeFields(p))
		parts = append(parts, one)
	}
	if len(w.Heard)+len(w.Packets) == 0 && len(w.Values) > 0 && len(w.Readings) == 0 { // of whole lines
		one := part{head: fmt.Sprintf("%s: \"%s\"", port, lineFor(values)), values: values, within: w.Within, names: []string{"line"}}
		return append(parts, one), nil
	}
	named, err := w.ofBook(st, port, len(parts) == 0)
	return append(parts, named...), err
}

// lineFor is a whole line that values are made of: where all are of JSON, or of XML, one that
// looks like that.
func lineFor(values []named) string {
	all := func(word string) bool {
		return !slices.ContainsFunc(values, func(v named) bool { return !strings.Contains(v.is, word+"(") })
	}
	switch {
	case all("json"):
		return `/(?P<line>[\[{].*)/`
	case all("xpath"):
		return `/(?P<line><.*>)/`
	}
	return "{line}"
}

// part is a reading of what was heard: of the values that a person names, or of each capture.
func (w *Watch) part(head string, heard *pattern.Pattern, values []named, all bool) part {
	p := part{head: head, within: w.Within}
	for _, n := range heard.Names() {
		p.names = append(p.names, n.Name)
	}
	for _, v := range values {
		if all || w.reads(v, p) {
			p.values = append(p.values, v)
		}
	}
	if len(p.values) == 0 {
		for _, n := range p.names {
			p.values = append(p.values, named{name: n, is: n})
		}
	}
	return p
}

// reads reports whether a value is made of what a part captures.
func (w *Watch) reads(v named, p part) bool {
	names, err := procedure.NamesIn(v.is)
	for _, n := range names {
		if !slices.Contains(p.names, n) {
			return false
		}
	}
	return err == nil
}

// drop leaves out fields that only protect others.
func (p *part) drop(made []string) {
	p.values = slices.DeleteFunc(p.values, func(v named) bool { return slices.Contains(made, v.is) })
}

// ofBook are the readings that a phrasebook tells of.
func (w *Watch) ofBook(st *bench.Station, port string, all bool) ([]part, error) {
	var known []string
	var book []phrasebook.Reading
	if st.Phrasebook != nil {
		book = st.Phrasebook.Readings
	}
	for _, r := range book {
		known = append(known, r.Name)
	}
	wanted := w.Readings
	if len(wanted) == 0 && all {
		if wanted = known; len(known) == 0 {
			return nil, misuse("nothing says what %s tells: give a text to hear such as \"volts {v:num}\", or a phrasebook with a table [[reading]]", st.Name)
		}
	}
	var parts []part
	for _, name := range wanted {
		if st.Phrasebook == nil {
			return nil, misuse("--reading %s: no phrasebook is known of %s", name, st.Name)
		}
		r, ok := st.Phrasebook.Reading(name)
		if !ok {
			return nil, misuse("--reading %s: %s has no such reading. %s", name, st.Phrasebook.File, source.DidYouMean(name, known))
		}
		parts = append(parts, w.bookPart(st, r, port))
	}
	return parts, nil
}

func (w *Watch) bookPart(st *bench.Station, r *phrasebook.Reading, port string) part {
	p := part{within: time.Duration(r.Within)}
	if w.Within > 0 {
		p.within = w.Within
	}
	if p.head = fmt.Sprintf("%s: \"%s\"", port, r.Heard); r.Packet != "" {
		p.head = fmt.Sprintf("packet %s: %s", port, r.Packet)
	} else if st.Setup.Dialect == phrasebook.Bytes {
		p.head = "bytes " + p.head
	}
	for _, n := range r.Pattern.Names() {
		p.names = append(p.names, n.Name)
	}
	for _, name := range r.Names() {
		is := name
		if r.Values[name] != "" {
			is = r.Values[name]
		}
		p.values = append(p.values, named{name, is, r.Units[name], strings.ReplaceAll(r.Limits[name], " ", "")})
	}
	if r.Packet != "" && len(r.Values) == 0 {
		if packet, ok := st.Phrasebook.Packet(r.Packet); ok {
			p.drop(procedure.MadeFields(packet))
		}
	}
	if w.Start == "" {
		p.start = said(st, port, r.Start)
	}
	if w.Stop == "" {
		p.stop = said(st, port, r.Stop)
	}
	if r.Say != "" && w.Poll == "" {
		every := time.Duration(r.Every)
		if w.Every > 0 {
			every = w.Every
		}
		p.poll = poll(st, port, r.Say, every)
	}
	return p
}

// said is the line that says something once; nothing for no text.
func said(st *bench.Station, port, text string) string {
	if text == "" {
		return ""
	}
	word := map[bool]string{true: "bytes "}[st.Setup.Dialect == phrasebook.Bytes]
	return fmt.Sprintf("    say %s%s: \"%s\"\n", word, port, text)
}

// poll is the line that says something at a pace.
func poll(st *bench.Station, port, say string, every time.Duration) string {
	if every == 0 {
		every = time.Second
	}
	word := map[bool]string{true: "bytes "}[st.Setup.Dialect == phrasebook.Bytes]
	return fmt.Sprintf("        poll %s%s every %v: \"%s\"\n", word, port, every, say)
}

// limits are the limits that a person gives, by the names of values.
func (w *Watch) limits() (map[string]limit, error) {
	all := map[string]limit{}
	for _, text := range w.Limits {
		name, span, ok := strings.Cut(text, "=")
		span, unit, _ := strings.Cut(strings.TrimSpace(span), " ")
		if name = strings.TrimSpace(name); !ok || name == "" {
			return nil, misuse("--limit %s: wanted NAME=LOW..HIGH, such as v=14..16", text)
		}
		if _, _, err := phrasebook.ParseRange(span); err != nil {
			return nil, misuse("--limit %s: %v", text, err)
		}
		all[name] = limit{span, strings.TrimSpace(unit)}
	}
	return all, nil
}

// values are the values that a person names.
func (w *Watch) values() ([]named, error) {
	var all []named
	for _, text := range w.Values {
		name, is, ok := strings.Cut(text, "=")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.TrimSpace(is) == "" {
			return nil, misuse("--value %s: wanted NAME=EXPRESSION, such as volts='json(line).v'", text)
		}
		unit := ""
		if i := strings.LastIndex(is, " in "); i > 0 && !strings.ContainsAny(is[i+4:], `"'([`) {
			is, unit = is[:i], strings.TrimSpace(is[i+4:])
		}
		all = append(all, named{name: name, is: strings.TrimSpace(is), unit: unit})
	}
	return all, nil
}
