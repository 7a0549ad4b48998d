package probe

import (
	"bytes"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/text"
	"uparrot/core/uart"
)

// readable is the share of bytes that modules print: text in ASCII, letters of other
// tongues and what shells draw with in UTF-8, blanks, line ends. Nothing at all is not readable.
func readable(b []byte) float64 {
	if len(b) >= 5 && bytes.Count(b, b[:1]) == len(b) {
		return 0 // nobody says one character over and over: a wrong speed makes it of anything
	}
	if len(b) == 0 {
		return 0
	}
	n, others, signs := 0, 0, 0
	for _, c := range string(b) {
		switch {
		case c >= ' ' && c <= '~' || c == '\r' || c == '\n' || c == '\t':
			n++
		case c != utf8.RuneError && unicode.IsGraphic(c):
			others += utf8.RuneLen(c)
			signs++
		}
	}
	if (4*others <= n || signs >= surelySigns) && utf8.Valid(b) { // a wrong setting makes such letters too, now and then
		n += others
	}
	return float64(n) / float64(len(b))
}

// surelySigns is how many signs of UTF-8 a wrong setting does not make without a byte that is none.
const surelySigns = 3

// plain removes colours and cursor moves.
func plain(b []byte) []byte {
	if bytes.IndexByte(b, 0x1b) < 0 {
		return b
	}
	return text.Plain(b)
}

// withoutEcho removes what was sent from the front of what came.
func withoutEcho(got []byte, sent string) []byte {
	sent = strings.TrimSpace(sent)
	if sent == "" {
		return got
	}
	if rest, ok := bytes.CutPrefix(bytes.TrimLeft(got, "\r\n"), []byte(sent)); ok {
		// What follows an echo directly on its line is no echo of ours.
		if len(rest) == 0 || rest[0] == '\r' || rest[0] == '\n' {
			return rest
		}
	}
	return got
}

// banner tells boot noise from the banner after it: how many unreadable bytes
// came first, and the readable line that followed, "" if there was none.
func banner(got []byte) (noise int, text string) {
	for _, line := range bytes.FieldsFunc(got, func(r rune) bool { return r == '\r' || r == '\n' }) {
		if len(line) >= 4 && readable(line) == 1 {
			return noise, string(line)
		}
		noise += len(line)
	}
	return noise, ""
}

// stripParity tells seven bits with parity from eight without: if the eighth
// bits follow one parity rule throughout and some are set, they are parity.
func stripParity(b []byte) ([]byte, uart.Parity) {
	set, even, odd := 0, true, true
	low := make([]byte, len(b))
	for i, c := range b {
		low[i] = c & 0x7f
		ones := 0
		for x := c; x != 0; x &= x - 1 {
			ones++
		}
		if c&0x80 != 0 {
			set++
		}
		even = even && ones%2 == 0
		odd = odd && ones%2 == 1
	}
	switch {
	case set == 0 || len(b) < 4 || readable(low) < 0.95:
		return b, uart.None
	case even:
		return low, uart.Even
	case odd:
		return low, uart.Odd
	}
	return b, uart.None
}

// unframed is what came with another frame than eight bits without parity, taken for that,
// and which frame that is; the zero value if none is seen.
func unframed(b []byte) ([]byte, uart.Frame) {
	if utf8.Valid(b) { // what a wrong frame makes of text is not, but for a letter or two
		return b, uart.Frame{}
	}
	if low, parity := stripParity(b); parity != uart.None {
		return low, uart.Frame{DataBits: 7, Parity: parity, Stop: 2}
	}
	low := make([]byte, len(b))
	for i, c := range b {
		if low[i] = c & 0x7f; c < 0x80 {
			return b, uart.Frame{}
		}
	}
	if len(b) < 4 || readable(low) < 0.95 {
		return b, uart.Frame{}
	}
	return low, uart.Frame{DataBits: 7, Parity: uart.None, Stop: 4}
}

// lastLine is the last line of a text that has anything in it.
func lastLine(s string) string {
	lines := strings.FieldsFunc(s, func(r rune) bool { return r == '\r' || r == '\n' })
	for i := len(lines) - 1; i >= 0; i-- {
		if line := strings.TrimSpace(lines[i]); line != "" {
			return line
		}
	}
	return ""
}

// isResult reports whether a line is a final result of ITU-T V.250; as a number only
// behind a line that begins with AT, and with CR alone at its end.
func isResult(line, said string, got []byte) bool {
	if asNumber(said, got) {
		return true
	}
	for _, p := range append(phrasebook.V250Successes(), phrasebook.V250Refusals()...) {
		if _, ok := p.Match([]byte(line)); ok {
			return true
		}
	}
	return false
}

// refuses reports whether a final result of ITU-T V.250 says no, as a word or as a number.
func refuses(line string) bool {
	if _, no := phrasebook.V250Number(line); no {
		return true
	}
	for _, p := range phrasebook.V250Refusals() {
		if _, ok := p.Match([]byte(line)); ok {
			return true
		}
	}
	return false
}

// asNumber reports whether what came is a final result of ITU-T V.250 as a number.
func asNumber(said string, got []byte) bool {
	if rest, ok := bytes.CutPrefix(bytes.TrimLeft(got, "\r\n"), []byte(strings.TrimSpace(said)+"\r")); ok { // an echo of all that was sent
		got = bytes.TrimPrefix(rest, []byte("\n"))
	}
	result, _ := phrasebook.V250Number(strings.TrimSuffix(string(got), "\r"))
	return result != "" && bytes.HasSuffix(got, []byte("\r")) && strings.HasPrefix(strings.ToUpper(strings.TrimSpace(said)), "AT")
}

// oneLine is text on one line, what is not printable as escapes, cut where it
// is long.
func oneLine(s string) string {
	q := strconv.QuoteToASCII(strings.TrimSpace(s))
	if len(q) > 60 {
		q = q[:57] + `..."`
	}
	return q
}

// lastPart is what stands behind the last line end of an answer, "" if nothing does or
// it is too long for a prompt.
func lastPart(got []byte) string {
	raw := got[bytes.LastIndexAny(got, "\r\n")+1:]
	last := text.TrimBlanks(plain(raw))
	if len(last) == 0 && len(raw) > 0 { // a prompt that was drawn, and drawn over with CR and a cursor move
		last = text.TrimBlanks(text.Terminal(got[bytes.LastIndexByte(got, '\n')+1:]))
	}
	if len(last) > 64 || readable(last) < 1 && len(last) > 0 {
		return ""
	}
	return once(string(last))
}

// once is a prompt that stands there several times in a row, each behind a line that had no
// answer. Of one sign without blanks, as in >>>, nobody can tell.
func once(prompt string) string {
	for n := 1; n <= len(prompt)/2; n++ {
		unit := strings.TrimRight(prompt[:n], " ")
		rest := strings.ReplaceAll(prompt, unit, "")
		if strings.TrimSpace(rest) == "" && (len(unit) > 1 || rest != "") {
			return unit
		}
	}
	return prompt
}

// shape is a line with all numbers alike.
func shape(line string) string {
	words := strings.Fields(line)
	for i, w := range words {
		if strings.ContainsAny(w, "0123456789") {
			words[i] = "..."
		}
	}
	return strings.Join(words, " ")
}

// own is what came without its echo and without the lines that the module sends by itself.
func (p *Probe) own(got []byte, sent string) []byte {
	got = withoutEcho(plain(got), sent)
	if len(p.shapes) == 0 {
		return got
	}
	var kept []byte
	for _, line := range bytes.SplitAfter(got, []byte("\n")) {
		kept = append(kept, line[:p.byItself(line)]...)
	}
	return kept
}

// byItself is where in a line what the module sends by itself begins: such a line may stand behind a prompt.
func (p *Probe) byItself(line []byte) int {
	if p.shapes[shape(string(line))] {
		return 0
	}
	for at, c := range line {
		if c == ' ' && p.shapes[shape(string(line[at:]))] {
			return at + 1
		}
	}
	return len(line)
}

// lost says what was heard where no setting was found, and what that points to.
func (p *Probe) lost(unasked bool, echoes, noises int) {
	r := &p.result
	point := func(s string) { r.Points = append(r.Points, s) }
	unfit := func() {
		point("Another logic level: RS-232 against TTL turns every bit round; look for a level converter.")
		point("A speed that is not on the list; give it with --speeds.")
	}
	switch {
	case echoes > 0 && noises == 0:
		r.Kind = Echo
		p.because("exactly what was sent came back each time, and nothing else")
		point("TX and RX are joined: a loopback plug, or both wires on one pin. Your own side works.")
		point("A module that repeats every key but answers nothing wants another line ending, or something else to be said first.")
	case noises > 0 && p.NoLine:
		r.Kind = Noise
		p.because("something came, and it is not readable as text")
		point("The speed or the frame at the serial side: set them at the server, or use rfc2217:// where it speaks that.")
		point("A protocol of bytes, not of lines.")
	case noises > 0:
		r.Kind = Noise
		if c, err := port.CountersOf(p.Port); err == nil && c.Any() {
			p.because("the port has counted %v", c)
		}
		p.because("something came at %d of the settings tried, readable at none", noises)
		unfit()
		point("A missing common ground between module and adapter.")
	case unasked:
		r.Kind = Burst
		p.because("something came before anything was sent, and nothing after")
		point("A module that has just started: wait for its banner, then probe again.")
		point("It sends but does not hear: its RX is not joined to the adapter's TX.")
		if len(r.Heard) > 0 && r.Heard[0].Readable < 0.9 && !p.NoLine {
			unfit() // what came could not be read
		}
	case p.NoLine:
		r.Kind = Silence
		p.because("the connection stands, and nothing came")
		point("What is behind it: it may be another service, or wait for another line than these; give it with --wake.")
		point("Where a server stands between, its serial side: speed, frame, wires and power of the module.")
	default:
		r.Kind = Silence
		p.because("nothing came at any speed")
		point("Supply: is the module powered, and does its ground meet the adapter's?")
		point("Wires: TX goes to RX and RX to TX. Swap the two and probe again.")
		point("An enable, boot or reset pin that holds it back.")
		point("Your own side: uparrot loopback proves it.")
	}
}
