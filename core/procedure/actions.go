package procedure

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/stats"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// nearest is the hint for an unknown name: the nearest known one, or else what
// to write.
func nearest(name string, known []string, otherwise string) string {
	if len(known) == 0 {
		return otherwise
	}
	return source.DidYouMean(name, known)
}

func (p *parser) readCollect(l *line, at Pos) {
	form := "Write: collect NAME from PORT until prompt, until quiet 500ms, until: TEXT, or until bytes: TEXT"
	c := &Collect{Pos: at}
	t := l.peekWord()
	nameAt := l.here()
	if old, ok := p.values.find(t); ok && old.capture {
		l.word() // may be taken anew
	} else if t, nameAt, ok = p.newName(l, "value"); !ok {
		return
	}
	c.Name = t
	var ok bool
	if !l.takeWord("from") {
		p.mistake(l.here(), "wanted from and a port", form)
		return
	}
	if c.Port, ok = p.portName(l); !ok {
		return
	}
	if !l.takeWord("until") {
		p.mistake(l.here(), "wanted until: what ends it", form)
		return
	}
	if !p.collectEnd(l, c, form) {
		return
	}
	if setup := p.setupOf(c.Port); c.Prompt && len(setup.Prompt) == 0 && setup.Dialect != phrasebook.DialectNotSaid && setup.Dialect != phrasebook.Console {
		p.mistake(at, fmt.Sprintf("dialect %s has no prompt", setup.Dialect), "Say dialect console and its prompt in the header, or write until: TEXT")
		return
	}
	p.values.add(c.Name, value{what: "a capture", typ: types.String, capture: true, at: nameAt})
	p.put(c)
}

// collectEnd takes what ends a collect.
func (p *parser) collectEnd(l *line, c *Collect, form string) (ok bool) {
	switch w := l.peekWord(); w {
	case "prompt":
		l.word()
		c.Prompt = true
	case "quiet":
		l.word()
		if c.Quiet, ok = p.span(l); !ok {
			return false
		}
	case "bytes":
		l.word()
		c.Bytes = true
	}
	if c.Within, ok = p.within(l); !ok {
		return false
	}
	if c.Prompt || c.Quiet > 0 {
		p.over(l)
		return true
	}
	if l.blanks(); l.at == len(l.text) || l.text[l.at] != ':' {
		p.mistake(l.here(), "wanted prompt, quiet and a time, or a colon and what ends it", form)
		return false
	}
	offset := 0
	if c.Pattern, c.Exprs, offset, ok = p.heardText(l, !c.Bytes); !ok {
		return false
	}
	for _, n := range c.Pattern.Names() {
		p.mistake(l.pos(offset+n.Offset, len(n.Name)), "a collect captures nothing in what ends it", "Write ... or {} instead.")
		return false
	}
	return true
}

// readRows reads what a table is, as collect does.
func (p *parser) readRows(l *line, at Pos) {
	form := "Write: rows PORT until prompt, until quiet 500ms, or until: TEXT"
	r := &Rows{Pos: at, Collect: &Collect{Pos: at}}
	p.put(r)
	b := &block{word: "rows", at: at, rows: r}
	p.open(b)
	b.finish = func() {
		if r.Row == nil && b.tried > 0 {
			p.mistake(at, "nothing says how a row looks", "Begin with it, such as: row: cabin {place:int} {load:num} kg")
		}
	}
	var ok bool
	if r.Collect.Port, ok = p.portName(l); !ok {
		return
	}
	if !l.takeWord("until") {
		p.mistake(l.here(), "wanted until: what ends it", form)
		return
	}
	p.collectEnd(l, r.Collect, form)
}

// readRow reads how a row looks.
func (p *parser) readRow(l *line, at Pos) {
	b := p.block()
	if b.rows == nil || b.body != nil {
		p.mistake(at, "row stands outside its place", "It is the first line of rows, once.")
		return
	}
	b.body = &b.rows.Body
	h := &Hear{Pos: at}
	offset, ok := 0, false
	if h.Pattern, h.Exprs, offset, ok = p.heardText(l, true); !ok {
		b.rows.Row = pattern.Must("...") // its mistake has been told
		return
	}
	p.captures(l, h, offset)
	b.rows.Row, b.rows.Exprs = h.Pattern, h.Exprs
}

// setupOf is how a port is spoken to as far as the procedure says it.
func (p *parser) setupOf(name string) phrasebook.Setup {
	for _, port := range p.file.Ports {
		if port.Name == name {
			return port.Whole()
		}
	}
	return phrasebook.Setup{}
}

// readKeep reads keep NAME as "FILE".
func (p *parser) readKeep(l *line, at Pos) {
	k := &Keep{Pos: at}
	w, nameAt := l.word()
	v, ok := p.values.find(w)
	switch {
	case w == "":
		p.mistake(l.here(), "wanted the name of a value", "Write: keep bootlog as \"boot.log\"")
		return
	case !ok || v.port:
		p.mistake(nameAt, fmt.Sprintf("%q has no value here", w), source.DidYouMean(w, p.values.names()))
		return
	case !l.takeWord("as"):
		p.mistake(l.here(), "wanted as and a file's name", "Write: keep "+w+" as \"boot.log\"")
		return
	}
	p.values.reads(w)
	p.note(Use{Pos: nameAt, Name: w, Kind: ValueUse, Type: typeWord(v.typ), What: v.what, bind: v.bind})
	k.Name = w
	if k.File, ok = p.quotedText(l, "the file's name"); ok {
		p.over(l)
		p.put(k)
	}
}

func (p *parser) operator(l *line) bool {
	if !l.takeWord("operator") {
		p.mistake(l.here(), "wanted operator", "Write: tell operator \"...\" or: ask operator \"...?\"")
		return false
	}
	return true
}

func (p *parser) readTell(l *line, at Pos) {
	if !p.operator(l) {
		return
	}
	if text, ok := p.quotedText(l, "what to tell"); ok {
		p.over(l)
		p.put(&Tell{at, text})
	}
}

func (p *parser) readAsk(l *line, at Pos) {
	if !p.operator(l) {
		return
	}
	a := &Ask{Pos: at}
	var ok bool
	if a.Text, ok = p.quotedText(l, "the question"); !ok {
		return
	}
	if l.takeWord("as") {
		t := l.peekWord()
		nameAt := l.here()
		if old, ok := p.values.find(t); ok && old.capture {
			l.word()
		} else if t, nameAt, ok = p.newName(l, "value"); !ok {
			return
		}
		a.Input = &Input{Pos: nameAt, Name: t, Type: "text"}
		if !p.inputType(l, a.Input) {
			return
		}
		p.values.add(t, value{what: "a capture", typ: typeOf(a.Input.Type), capture: true, at: nameAt})
	}
	p.over(l)
	p.put(a)
}

// readPower reads power PORT on, off or cycle [for T].
func (p *parser) readPower(l *line, at Pos) {
	n := &Power{Pos: at}
	var ok bool
	if n.Port, ok = p.portName(l); !ok {
		return
	}
	how, howAt := l.word()
	if n.How = how; how != PowerOn && how != PowerOff && how != PowerCycle {
		p.mistake(howAt, fmt.Sprintf("there is no power %q", how), "Write: power "+n.Port+" on, off or cycle.")
		return
	}
	if how == PowerCycle && l.takeWord("for") {
		if n.For, ok = p.span(l); !ok {
			return
		}
	}
	p.over(l)
	p.put(n)
}

// lineWords are what a line statement can change.
var lineWords = map[string]bool{"speed": true, "frame": true, "ending": true, "dialect": true, "dtr": true, "rts": true, "break": true, "reopen": true}

func (p *parser) readLine(l *line, at Pos) {
	n := &SetLine{Pos: at}
	var ok bool
	if n.Port, ok = p.portName(l); !ok {
		return
	}
	if l.done() {
		p.mistake(at, "line says not what to change", "Write: line "+n.Port+" speed 57600")
		return
	}
	for !l.done() {
		if !p.lineWord(l, n) {
			return
		}
	}
	p.put(n)
}

func (p *parser) lineWord(l *line, n *SetLine) bool {
	w, at := l.word()
	switch w {
	case "speed":
		v, at := l.token()
		if inner, ok := strings.CutPrefix(v, "{"); ok && strings.HasSuffix(inner, "}") {
			n.Speed, _ = p.compile(l, strings.TrimSuffix(inner, "}"), l.at-len(v)+1, false)
			return n.Speed != nil
		}
		if baud, ok := number(v); !ok || baud < uart.MinSpeed || baud > uart.MaxSpeed {
			p.mistake(at, fmt.Sprintf("%q is no speed", v), fmt.Sprintf("A speed is %d to %d baud, such as 57600, or a value in braces, such as {speed}.", uart.MinSpeed, uart.MaxSpeed))
			return false
		}
		n.Speed, _ = p.compile(l, v, l.at-len(v), false)
	case "frame", "ending", "dialect":
		return p.setupWord(l, w, at, &n.Setup)
	case "dtr", "rts":
		v, at := l.token()
		if v != "on" && v != "off" {
			p.mistake(at, fmt.Sprintf("%q is no state of a signal line", v), "Write on or off.")
			return false
		}
		s, err := uart.ParseSignal(w)
		if err != nil {
			p.problem(at, err)
			return false
		}
		n.Signals = append(n.Signals, Signal{s, v == "on"})
	case "break":
		var ok bool
		if n.Break, ok = p.span(l); !ok {
			return false
		}
	case "reopen":
		n.Reopen = true
		var ok bool
		if n.Within, ok = p.within(l); !ok {
			return false
		}
	default:
		if w == "" {
			at = l.here()
			w, _ = l.token()
		}
		p.mistake(at, fmt.Sprintf("line cannot change %q", w), source.DidYouMean(w, keys(lineWords)))
		return false
	}
	return true
}

func (p *parser) readReach(l *line, at Pos) {
	r := &Reach{Pos: at}
	var ok bool
	if r.Host, ok = p.quotedText(l, "the host"); !ok {
		return
	}
	switch w, wordAt := l.word(); w {
	case "ping":
	case "tcp":
		text, from := l.until(" ")
		if text == "" {
			p.mistake(from, "wanted the port number", "Write: reach \"192.0.2.7\" tcp 80")
			return
		}
		if inner, ok := strings.CutPrefix(text, "{"); ok && strings.HasSuffix(inner, "}") {
			text = strings.TrimSuffix(inner, "}")
			r.TCP, _ = p.compile(l, text, l.at-len(text)-1, false)
		} else if n, ok := number(text); !ok || n < 1 || n > 65535 {
			p.mistake(from, fmt.Sprintf("%q is no port number", text), "Write 1 to 65535, or a value in braces.")
			return
		} else {
			r.TCP, _ = p.compile(l, text, l.at-len(text), false)
		}
		if r.TCP == nil {
			return
		}
	default:
		p.mistake(wordAt, "wanted tcp and a port number, or ping", "Write: reach \"192.0.2.7\" tcp 80 or: reach \"192.0.2.7\" ping")
		return
	}
	if r.Within, ok = p.within(l); ok {
		p.over(l)
		p.put(r)
	}
}

func (p *parser) readFail(l *line, at Pos)     { p.leave(l, at, verdict.Failed) }
func (p *parser) readSkip(l *line, at Pos)     { p.leave(l, at, verdict.Skipped) }
func (p *parser) readUntested(l *line, at Pos) { p.leave(l, at, verdict.Untested) }

func (p *parser) leave(l *line, at Pos, as verdict.Verdict) {
	if why, ok := p.quotedText(l, "why"); ok {
		p.over(l)
		p.put(&Fail{at, as, why})
	}
}

func (p *parser) readLink(l *line, at Pos) {
	form := "Write: link A B count 200 every 250ms size 24 loss <= 2% p95 <= 150ms"
	n := &Link{Pos: at}
	for _, end := range []*string{&n.A, &n.B} {
		w, wordAt := l.word()
		if !p.isPort(w) {
			p.mistake(wordAt, fmt.Sprintf("there is no port %q", w), source.DidYouMeanOr(w, p.portNames(), form))
			return
		}
		p.portUse(w, wordAt)
		*end = w
	}
	if n.A == n.B {
		p.mistake(at, "both ends are "+n.A+": a link has two", form)
		return
	}
	for !l.done() {
		w, wordAt := l.word()
		ok := true
		switch w {
		case "count", "size":
			v, at := l.token()
			count, is := number(v)
			if !is || count < 1 {
				p.mistake(at, fmt.Sprintf("%q is no number", v), form)
				return
			}
			if w == "count" {
				n.Count = count
			} else {
				n.Size = count
			}
		case "every":
			n.Every, ok = p.span(l)
		case "both":
			n.Both = true
		case "loss", "p95":
			if !l.take("<=") {
				p.mistake(l.here(), "wanted <= and the greatest allowed", form)
				return
			}
			if w == "p95" {
				n.MaxP95, ok = p.span(l)
				break
			}
			v, at := l.token()
			share, err := strconv.ParseFloat(strings.TrimSuffix(v, "%"), 64)
			if err != nil || !strings.HasSuffix(v, "%") || share < 0 || share > 100 {
				p.mistake(at, fmt.Sprintf("%q is not a percentage", v), "Write a part of a hundred, such as 2%.")
				return
			}
			share /= 100
			n.MaxLoss = &share
		default:
			p.mistake(wordAt, fmt.Sprintf("link knows no %q", w), source.DidYouMean(w, []string{"count", "every", "size", "both", "loss", "p95"}))
			return
		}
		if !ok {
			return
		}
	}
	if n.Count == 0 || n.Every == 0 {
		p.mistake(at, "a link needs count and every", form)
		return
	}
	p.linkTooShort(n, at)
	p.put(n)
}

// linkTooShort warns of a count that cannot decide its limits, even if all goes well.
func (p *parser) linkTooShort(n *Link, at Pos) {
	least := 0
	if n.MaxLoss != nil {
		least = stats.FramesToPass(*n.MaxLoss)
	}
	if n.MaxP95 > 0 {
		least = max(least, stats.FramesToPass(0.05))
	}
	if n.MaxLoss == nil && n.MaxP95 == 0 {
		p.warning(at, "this link has no limit, so nothing of it is judged: its step passes whatever is lost, unless nothing arrives", "Add loss <= 2% or p95 <= 150ms.")
	} else if n.MaxLoss != nil && *n.MaxLoss == 0 {
		p.warning(at, "no number of frames shows that nothing at all is lost", "Give a limit above 0%.")
	} else if n.Count < least {
		p.warning(at, fmt.Sprintf("%d frames cannot decide this limit", n.Count), fmt.Sprintf("With none lost it takes count %d.", least))
	}
}

// readLogIn reads log in PORT as NAME [with PASSWORD] [within T] [unless open], or log in PORT with PASSWORD.
func (p *parser) readLogIn(l *line, at Pos) {
	form := "Write: log in PORT as \"ops\" with SECRET, and within 30s if you like."
	n := &LogIn{Pos: at}
	if !l.takeWord("in") {
		p.mistake(l.here(), "wanted in after log", form)
		return
	}
	var ok bool
	if n.Port, ok = p.portName(l); !ok {
		return
	}
	named := l.peekWord() == "as"
	if !named && l.peekWord() != "with" {
		p.mistake(l.here(), "wanted as and the name, or with and the secret", form)
		return
	}
	if named {
		l.word()
	}
	text, offset := l.rest()
	if !named {
		text, offset = " "+text, offset-1
	}
	if front, ok := strings.CutSuffix(strings.TrimRight(text, " \t"), " unless open"); ok {
		n.Open, text = true, strings.TrimRight(front, " \t")
	}
	part := func(word string) (inner string, from int, found bool) {
		i := strings.LastIndex(text, word)
		if i < 0 {
			return "", 0, false
		}
		after := text[i+len(word):]
		inner, from = strings.TrimSpace(after), offset+i+len(word)+len(after)-len(strings.TrimLeft(after, " \t"))
		text = strings.TrimRight(text[:i], " \t")
		return inner, from, true
	}
	if within, from, found := part(" within "); found {
		d, err := span(within)
		if err != nil {
			p.mistake(l.pos(from, len(within)), err.Error(), spanHint)
			return
		}
		n.Within = d
	}
	if password, from, found := part(" with "); found {
		if n.Password, _ = p.compile(l, password, from, false); n.Password == nil {
			return
		}
	}
	if !named && strings.TrimSpace(text) == "" && n.Password != nil {
		p.put(n)
		return
	}
	if strings.TrimSpace(text) == "" {
		p.mistake(at, "there is no name", form)
		return
	}
	if n.Name, _ = p.compile(l, text, offset, false); n.Name != nil {
		p.put(n)
	}
}
