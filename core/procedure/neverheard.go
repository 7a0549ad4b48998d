package procedure

import (
	"fmt"
	"strings"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/source"
	"uparrot/core/text"
)

// heard is what a module may say, as a phrasebook has it that is complete.
type heard struct {
	all     [][]token
	spoken  []string // as written, for the nearest one
	unknown bool     // something of it is not known
}

// hearable is what may be heard of a module; nil where its phrasebook does not say all.
func (v *vocabulary) hearable() *heard {
	if !v.book.Complete {
		return nil
	}
	h := &heard{}
	book, setup := v.book, v.setup
	for _, list := range [][]*pattern.Pattern{v.refusals, book.Finals(), setup.Prompt.Patterns(), setup.Final.Patterns(), setup.Refusal.Patterns(), setup.Notice.Patterns(), setup.Pager.Patterns(), setup.Login.Patterns(), setup.Password.Patterns(), setup.Denied.Patterns()} {
		h.add(list...)
	}
	if setup.Dialect == phrasebook.AT {
		h.add(phrasebook.V250Successes()...)
	}
	if book.Banner != nil {
		h.add(book.Banner.Pattern)
	}
	if book.Carrier != nil {
		h.add(book.Carrier.ArrivesPattern)
	}
	for _, n := range book.Notices {
		h.add(n.Pattern)
	}
	for _, r := range book.Readings {
		h.add(r.Pattern)
	}
	for _, s := range book.Settings {
		h.add(s.AnswerPattern, s.WrittenPattern)
	}
	for _, id := range book.Identity {
		h.written(id.Answer)
	}
	for _, c := range book.Commands {
		h.unknown = h.unknown || c.Carries || c.Follows != "" // from then on anything may come
		for _, one := range c.Answer {
			h.written(one)
		}
	}
	for _, ph := range v.known { // it may repeat what it is told
		h.all = append(h.all, ph.tokens)
	}
	h.unknown = h.unknown || len(book.Packets) > 0 || setup.Dialect == phrasebook.Bytes
	return h
}

func (h *heard) add(list ...*pattern.Pattern) {
	for _, p := range list {
		if p == nil {
			continue
		}
		outline := p.Outline(mark + mark)
		h.unknown = h.unknown || outline == "" // a regular expression may be about anything
		h.all = append(h.all, tokens(oneBlank(outline)))
		h.spoken = append(h.spoken, p.String())
	}
}

func (h *heard) written(text string) {
	if text == "" {
		return
	}
	p, err := pattern.Compile(text)
	if h.unknown = h.unknown || err != nil; err == nil {
		h.add(p)
	}
}

var blanks = text.Regexp(`[ \t]+`)

// oneBlank makes runs of blanks one, and blanks beside open places none: they may be any.
func oneBlank(s string) string {
	s = blanks().ReplaceAllString(s, " ")
	return strings.ReplaceAll(strings.ReplaceAll(s, mark+" ", mark), " "+mark, mark)
}

// never warns of a hear at a port whose phrasebook says all that the module says, and not that.
func (in *inspector) never(n *Hear) {
	v := in.books[n.Port]
	if v == nil || n.Packet != nil || n.Pattern == nil {
		return
	}
	h := v.hearable()
	outline := n.Pattern.Outline(mark + mark)
	if h == nil || h.unknown || v.through || outline == "" {
		return
	}
	if n.Form == pattern.AnyBytes {
		outline = mark + mark + outline + mark + mark
	}
	wanted := tokens(oneBlank(outline))
	for _, one := range h.all {
		if agree(wanted, one) {
			return
		}
	}
	words := n.Pattern.String()
	what := fmt.Sprintf("nothing that %s tells of looks like that, and it says that it is complete", v.book.File)
	if n.Not {
		what += ": that it does not come proves nothing"
	}
	in.warning(n.Pos, what, source.DidYouMeanOr(words, h.spoken, "If the module says it, add it to the phrasebook, such as as a notice or an answer."))
}

// hears are the hears of a statement that are no statements of their own.
func hears(n Node) (all []*Hear) {
	switch n := n.(type) {
	case *Hear:
		all = append(all, n)
	case *Any:
		for _, c := range n.Cases {
			if c.Hear != nil {
				all = append(all, c.Hear)
			}
		}
	case *Watch:
		for _, r := range n.Readings {
			all = append(all, r.Hear)
		}
	}
	return all
}
