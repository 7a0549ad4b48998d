package procedure

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"

	"uparrot/core/pattern"
)

// inReading is what may stand below a reading.
var inReading = []string{"check", "limit", "note", "let", "until"}

// readWatch reads watch [N times] [for T] [broken <= P%] [reopen].
func (p *parser) readWatch(l *line, at Pos) {
	const form = "Write: watch for 10m, or watch 100 times; or say below a reading until what. Behind it may stand broken <= 1%, and reopen."
	w := &Watch{Pos: at}
	p.put(w)
	b := &block{word: "watch", at: at, watch: w}
	p.open(b)
	b.finish = func() {
		switch {
		case len(w.Readings) == 0 && b.tried > 0:
			p.mistake(at, "nothing says what is to be read", "Write a line such as: reading gauge: wind {speed:num} m/s")
		case w.Times == nil && w.For == nil && !w.untils():
			p.mistake(at, "this watch has no end", form)
		}
	}
	text, offset := l.rest()
	text, ok := strings.TrimRight(text, " \t"), false
	if bare, reopens := strings.CutSuffix(" "+text, " reopen"); reopens {
		w.Reopen, text = true, strings.TrimSpace(bare)
	}
	if i := strings.Index(" "+text, " broken <= "); i >= 0 {
		share, err := strconv.ParseFloat(strings.TrimSuffix(text[i+len("broken <= "):], "%"), 64)
		if err != nil || !strings.HasSuffix(text, "%") || share < 0 || share > 100 {
			p.mistake(l.pos(offset+i, len(text)-i), "this is no share that may be broken", "Write a part of a hundred, such as broken <= 1%.")
			w.For = &Expr{}
			return
		}
		w.Broken, text = &share, strings.TrimRight(text[:i], " \t")
	}
	if text, w.For, ok = p.timeBehind(l, text, offset, "for"); !ok {
		w.For = &Expr{} // its mistake has been told
		return
	}
	if text == "" {
		return
	}
	bare, counted := strings.CutSuffix(text, " times")
	if !counted {
		p.mistake(l.pos(offset, len(text)), fmt.Sprintf("watch knows no %q", text), form)
		w.For = &Expr{}
		return
	}
	var typ types.Type = types.Any
	bare = strings.TrimRight(bare, " \t")
	if w.Times, typ = p.compile(l, bare, offset, false); typ == types.String || typ == types.Bool {
		p.mistake(l.pos(offset, len(bare)), "this is no number of readings", "Write a whole number, or a value that is one.")
	}
}

// untils reports whether some reading may end it.
func (w *Watch) untils() bool {
	for _, r := range w.Readings {
		for _, n := range r.Body {
			if _, ok := n.(*Until); ok {
				return true
			}
		}
	}
	return false
}

// readPoll reads poll [bytes|packet] PORT every T: TEXT.
func (p *parser) readPoll(l *line, at Pos) {
	b := p.block()
	if b.watch == nil || b.body != nil {
		p.mistake(at, "poll stands outside its place", "It is a line of a watch, before the first reading.")
		return
	}
	s := &Say{Pos: at, Bytes: l.takeWord("bytes")}
	packet := !s.Bytes && p.takePacket(l)
	var ok bool
	if s.Port, ok = p.speaker(l); !ok {
		return
	}
	if !l.takeWord("every") {
		p.mistake(l.here(), "wanted every and a time", "Write: poll "+s.Port+" every 1s: TEXT")
		return
	}
	poll := &Poll{Say: s}
	if poll.Every, ok = p.span(l); !ok {
		return
	}
	if poll.Every < leastPoll {
		p.mistake(at, fmt.Sprintf("%v is too short: no module answers so often", poll.Every), fmt.Sprintf("Write %v or more.", leastPoll))
		return
	}
	if packet {
		p.sayPacket(l, s)
	} else if text, offset, ok := p.spokenText(l); ok {
		said, err := pattern.CompileSaid(text)
		if e, ok := errors.AsType[*pattern.SyntaxError](err); ok {
			p.mistake(l.pos(offset+e.Offset, e.Width), e.What, e.Mend)
			return
		}
		s.TextAt = l.pos(offset, len(text))
		s.Text, s.Exprs = said, p.exprs(l, said.Exprs(), offset)
	}
	b.watch.Polls = append(b.watch.Polls, poll)
}

// leastPoll is how often a poll asks at most.
const leastPoll = time.Millisecond

// readReading reads reading [bytes|packet] PORT [within T]: TEXT.
func (p *parser) readReading(l *line, at Pos) {
	b := p.block()
	if b.watch == nil {
		p.mistake(at, "reading stands outside a watch", "Write watch for 10m above it, and end below.")
		return
	}
	r := &Reading{Pos: at}
	b.watch.Readings = append(b.watch.Readings, r)
	b.body = &r.Body
	if r.Hear = p.readHear(l, at, false); r.Hear == nil {
		r.Hear = &Hear{Pos: at} // a mistake has been told
		return
	}
	if h := r.Hear; h.Form == pattern.NextLine || h.Later || h.Earlier || h.Took != "" {
		p.mistake(at, "a reading is heard whenever it comes: next, later, earlier and took have no meaning here", "Leave them out.")
	}
}

// readUntil reads until CONDITION, which ends a watch.
func (p *parser) readUntil(l *line, at Pos) {
	if p.block().watch == nil {
		p.mistake(at, "until stands outside a watch", "It ends a watch, below a reading: until volts > 15")
		return
	}
	if cond := p.condition(l, at); cond != nil {
		p.put(&Until{at, cond})
	}
}
