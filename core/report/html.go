package report

import (
	"bufio"
	"crypto/sha256"
	_ "embed" // for the page
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"html/template"
	"io"
	"os"
	"strings"
	"time"

	"uparrot/core/link"
	"uparrot/core/record"
	"uparrot/core/report/chart"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

var (
	//go:embed page.html
	pageText string
	//go:embed page.css
	pageStyle string
	//go:embed page.js
	pageScript string

	page = template.Must(template.New("page").Funcs(template.FuncMap{"line": text.Line}).Parse(pageText))
)

// policySum names a script or style that the page's own policy lets in.
func policySum(text string) string {
	s := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(s[:])
}

// spool is a part of the page that is written while others are: it lies in a file
// of its own until its turn comes.
type spool struct {
	*bufio.Writer
	file *os.File
}

func newSpool() (*spool, error) {
	f, err := os.CreateTemp("", "uparrot-report-")
	if err != nil {
		return nil, fmt.Errorf("make a file for a part of the report: %w", err)
	}
	_ = os.Remove(f.Name()) // where the system lets an open file be nameless, a killed program leaves nothing
	return &spool{bufio.NewWriterSize(f, 64<<10), f}, nil
}

// into writes the part where it belongs.
func (s *spool) into(w io.Writer) error {
	if err := s.Flush(); err != nil {
		return fmt.Errorf("write a part of the report: %w", err)
	}
	if _, err := s.file.Seek(0, io.SeekStart); err != nil {
		return fmt.Errorf("read a part of the report: %w", err)
	}
	_, err := io.Copy(w, s.file)
	return err
}

func (s *spool) remove() { _ = errors.Join(s.file.Close(), os.Remove(s.file.Name())) } // it is of no use any more

// writer writes the page: it reads the record once, and writes its parts side by
// side.
type pageWriter struct {
	d        *Digest
	zone     *time.Location
	numbers  map[string]int // of steps, by title
	steps    *spool
	limits   *spool
	lines    *spool
	step     string // that is open; "" if none is
	inTable  bool
	frames   *Frames
	pictures [][]picture // of each link test
	links    int
	rows     int
	series   seriesReader
}

// asHTML writes one page that needs nothing else.
func asHTML(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	p := &pageWriter{d: d, zone: d.Began.Location(), numbers: map[string]int{}, series: seriesReader{map[int]record.SeriesBegins{}, map[int]*seriesSeen{}}}
	for i, s := range d.Steps {
		p.numbers[s.Title] = i + 1
	}
	for _, s := range []**spool{&p.steps, &p.limits, &p.lines} {
		var err error
		if *s, err = newSpool(); err != nil {
			return err
		}
		defer (*s).remove()
	}
	fold := &folded{emit: p.line}
	dia := newDialogue(fold.line)
	err := events(r, func(e record.Event) error {
		if err := dia.take(e); err != nil {
			return err
		}
		return p.take(e)
	})
	if err == nil {
		err = dia.flush()
	}
	if err == nil {
		err = fold.flush(dialogueLine{Time: d.Last})
	}
	p.endStep()
	if err != nil {
		return err
	}
	return p.write(w)
}

// write puts the page together.
func (p *pageWriter) write(w io.Writer) error {
	o := &pageOut{w: w}
	p.head(o)
	if len(p.d.Steps) > 0 {
		o.say("<section id=\"steps\"><h2>Steps</h2>\n")
		o.part(p.steps)
		o.say("</section>\n")
	}
	if p.d.Limits > 0 {
		o.say("<section id=\"measurements\"><h2>Measurements</h2>\n<table><caption class=\"hidden\">Values and their limits</caption><thead><tr><th scope=\"col\">measurement</th><th scope=\"col\" class=\"number\">value</th><th scope=\"col\" class=\"number\">limits</th><th scope=\"col\">within the limits</th><th scope=\"col\">verdict</th></tr></thead><tbody>\n")
		o.part(p.limits)
		o.say("</tbody></table></section>\n")
	}
	p.seriesPart(o)
	if len(p.d.tests()) > 0 {
		p.linkPart(o, "Link")
	}
	for i, r := range p.d.Results {
		o.do("result", map[string]any{"First": i == 0, "What": upperFirst(text.Line(r.What)), "Verdict": r.Verdict, "Rows": r.Rows})
		o.chart(r.Chart)
	}
	if len(p.d.tests()) == 0 {
		p.linkPart(o, "Loads, one by one")
	}
	if p.files() > 0 {
		o.do("files", p.d)
	}
	o.do("about", p.d.about())
	p.dialoguePart(o)
	o.say("</main>\n<footer><p>Made by %s out of record %s alone. %s.</p></footer>\n", escape(p.d.Origin.Tool), escape(p.d.Origin.Run), escape(upperFirst(p.d.Words())))
	if p.rows > 0 {
		o.say("<script>%s</script>\n", pageScript)
	}
	o.say("</body>\n</html>\n")
	return o.err
}

// pageOut writes parts of the page until one cannot be written.
type pageOut struct {
	w   io.Writer
	err error
}

// do writes a part by its template.
func (o *pageOut) do(name string, data any) {
	if o.err == nil {
		o.err = page.ExecuteTemplate(o.w, name, data)
	}
}

func (o *pageOut) say(format string, values ...any) {
	if o.err == nil {
		_, o.err = fmt.Fprintf(o.w, format, values...)
	}
}

// chart writes a picture, if there is one.
func (o *pageOut) chart(c chart.Chart) {
	if c == nil {
		return
	}
	o.say("<figure>")
	if o.err == nil {
		o.err = chart.Inline(o.w, c, strings.TrimPrefix(text.Line(c[0].Title)+". ", ". ")+"A table beside it has the figures.")
	}
	o.say("</figure>\n")
}

// part writes what was spooled.
func (o *pageOut) part(s *spool) {
	if o.err == nil {
		o.err = s.into(o.w)
	}
}

// files counts the files that the record names.
func (p *pageWriter) files() int { return len(p.d.Kept) + len(p.d.Origin.Files) }

// head writes what is to be seen first: the verdict, what did not pass, and the
// way to all else.
func (p *pageWriter) head(o *pageOut) {
	d := p.d
	outcome := d.Outcome()
	sign := map[string]string{"passed": "✓", "failed": "✗", "broken": "✗"}[outcome]
	if sign == "" {
		sign = "?"
	}
	var first [][2]string
	for _, row := range d.about() {
		switch {
		case row[0] == "unit", row[0] == "operator", row[0] == "began", row[0] == "took", strings.HasPrefix(row[0], "port "):
			first = append(first, row)
		}
	}
	var failures []StepSeen
	for _, s := range d.Steps {
		if s.Verdict != verdict.Passed && s.Verdict != verdict.Skipped && s.Why != "" {
			failures = append(failures, s)
		}
	}
	warning := ""
	if !d.Whole() {
		warning = d.Words()
	}
	var parts [][2]string
	for _, part := range []struct {
		is        bool
		id, title string
	}{
		{len(failures) > 0, "failures", "What did not pass"},
		{len(d.Steps) > 0, "steps", "Steps"},
		{d.Limits > 0, "measurements", "Measurements"},
		{len(p.series.seen) > 0, "series", "Values over time"},
		{len(d.tests()) > 0, "links", "Link"},
		{len(d.Results) > 0, "results", "Result"},
		{len(d.Links) > len(d.tests()), "links", "Loads"},
		{p.files() > 0, "files", "Files"},
		{true, "about", "About this record"},
		{p.rows > 0, "dialogue", "Dialogue"},
	} {
		if part.is {
			parts = append(parts, [2]string{part.id, part.title})
		}
	}
	o.do("head", map[string]any{
		"Style": template.CSS(pageStyle), "StyleSum": template.HTMLAttr(policySum(pageStyle)), "ScriptSum": template.HTMLAttr(policySum(pageScript)),
		"Outcome": outcome, "Class": strings.Fields(outcome)[0], "Sign": sign, "Name": text.Line(d.Name()), "Unit": text.Line(d.Origin.Unit), "Sentence": d.Sentence(),
		"Warning": warning, "First": first, "Parts": parts, "Failures": failures,
	})
}

// linkPart writes the link tests with their pictures.
func (p *pageWriter) linkPart(o *pageOut, title string) {
	if len(p.d.Links) == 0 {
		return
	}
	o.say("<section id=\"links\"><h2>%s</h2>\n", title)
	for i, sum := range p.d.Links {
		for _, way := range sum.Directions {
			rows := LinkRows(sum, way)
			o.do("link", map[string]any{"From": text.Line(way.From), "To": text.Line(way.To), "Verdict": way.Verdict, "Why": linesOf(way.Why), "Rows": rows[:len(rows)-len(way.Why)]})
		}
		if len(sum.Stretches) > 0 {
			o.do("stretches", map[string]any{"Head": StretchHead, "Rows": StretchRows(sum.Stretches)})
		}
		if i < len(p.pictures) {
			for _, pic := range p.pictures[i] {
				o.chart(pic.chart)
			}
		}
	}
	o.say("</section>\n")
}

// dialoguePart writes everything that was said and heard.
func (p *pageWriter) dialoguePart(o *pageOut) {
	if p.rows == 0 {
		return
	}
	o.say("<section id=\"dialogue\"><h2>Dialogue</h2>\n<div class=\"search\" id=\"search\" role=\"search\" hidden><label for=\"wanted\">Search in the dialogue</label> <input id=\"wanted\" type=\"search\" autocomplete=\"off\"> <output for=\"wanted\"></output></div>\n")
	o.say("<table class=\"talk dialogue\" id=\"lines\"><caption>Everything in the order of time; times are %s</caption><thead class=\"hidden\"><tr><th scope=\"col\">time</th><th scope=\"col\">port</th><th scope=\"col\">what</th><th scope=\"col\">text</th></tr></thead>\n<tbody>\n", html.EscapeString(p.d.Began.Format("-07:00")))
	o.part(p.lines)
	o.say("</tbody></table></section>\n")
}

func upperFirst(s string) string {
	if s == "" {
		return "Result"
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// escape is text of a module within HTML.
// linesOf are texts that are safe to show.
func linesOf(list []string) []string {
	var all []string
	for _, s := range list {
		all = append(all, text.Line(s))
	}
	return all
}

func escape(s string) string { return html.EscapeString(text.Line(s)) }

// take takes in what is no line of the dialogue alone.
func (p *pageWriter) take(e record.Event) error {
	switch e.Kind {
	case record.Series, record.Sampled:
		return p.series.take(e)
	case record.Frame:
		if p.frames == nil {
			p.frames = NewFrames()
		}
		from, to, row, err := link.RowOf(e)
		if err != nil {
			return err
		}
		p.frames.Row(from, to, row)
	case record.Link:
		if p.links < len(p.d.Links) {
			var sum link.Summary
			if json.Unmarshal(e.Data, &sum) != nil || sum.Kind != link.Kind {
				return nil
			}
			pics, err := pictures(p.frames, sum)
			if err != nil {
				return err
			}
			p.pictures = append(p.pictures, pics)
			p.links++
			p.frames = nil
		}
	case record.Limit, record.Value:
		m, err := measurement(e)
		if err != nil {
			return err
		}
		if e.Try > 1 {
			m.What += fmt.Sprintf(" (try %d)", e.Try)
		}
		_, err = fmt.Fprintf(p.limits, "<tr><td>%s</td><td class=\"number\">%s</td><td class=\"number\">%s</td><td>%s</td><td class=\"verdict %s\">%s</td></tr>\n",
			escape(m.What), escape(m.Shown()), escape(m.Wanted()), drawn(m), class(string(m.Verdict)), escape(string(m.Verdict)))
		return err
	}
	return nil
}

// class is a verdict as a class of the page.
func class(v string) string {
	for _, r := range v {
		if r < 'a' || r > 'z' {
			return ""
		}
	}
	return v
}

// drawn is a value among its limits.
func drawn(m record.Measurement) string {
	if !m.Value.Finite() || !m.Judged() {
		return ""
	}
	if s := m.Series; s != nil {
		return chart.Range{Value: float64(s.Mean), Of: &chart.Span{Low: float64(s.Least), High: float64(s.Greatest)}, Low: m.Low, High: m.High, Outside: m.Verdict != verdict.Passed, Label: m.Shown() + ", wanted " + m.Wanted()}.Inline()
	}
	return chart.Range{Value: float64(m.Value), Low: m.Low, High: m.High, Outside: m.Verdict != verdict.Passed, Label: m.Value.String() + " within " + m.Range()}.Inline()
}

// rowsInBody is how many rows stand in one body of the table, so that a browser
// can leave out what is not seen.
const rowsInBody = 500

// line writes a line of the dialogue, and of its step.
func (p *pageWriter) line(l dialogueLine) error {
	stamp := l.Time.In(p.zone).Format("15:04:05.000")
	if l.Word == string(record.Step) {
		p.stepLine(l)
	}
	text := escape(l.Text)
	word, kind := l.Word, class(l.Word)
	if l.Word == string(record.Step) {
		word = "step"
		if l.Verdict == "" {
			text = escape(l.Step)
		} else {
			kind = ""
			text = strings.TrimSuffix(escape(string(l.Verdict))+": "+text, ": ")
		}
	} else if l.Verdict != "" && l.Word != string(record.Try) {
		text = strings.TrimSpace(text + "  <b class=\"" + class(string(l.Verdict)) + "\">" + escape(string(l.Verdict)) + "</b>")
	}
	row := fmt.Sprintf("<tr class=\"%s\"><td>%s</td><td>%s</td><td>%s</td><td>%s</td></tr>\n", kind, stamp, escape(l.Port), escape(word), text)
	if p.rows > 0 && p.rows%rowsInBody == 0 {
		row = "</tbody><tbody>\n" + row
	}
	p.rows++
	if _, err := p.lines.WriteString(row); err != nil {
		return err
	}
	if p.step != "" && l.Word != string(record.Step) && l.Word != ignored {
		if !p.inTable {
			p.inTable = true
			fmt.Fprintf(p.steps, "<table class=\"talk\"><caption class=\"hidden\">What was said and heard</caption><tbody>\n")
		}
		_, err := p.steps.WriteString(strings.TrimPrefix(row, "</tbody><tbody>\n"))
		return err
	}
	return nil
}

// stepLine begins or ends the part of a step.
func (p *pageWriter) stepLine(l dialogueLine) {
	n := p.numbers[l.Step]
	var s StepSeen
	if n > 0 {
		s = p.d.Steps[n-1]
	}
	outcome := string(s.Verdict)
	if outcome == "" {
		outcome = "unfinished"
	}
	took := ""
	if s.Tries > 1 {
		took = text.Count(s.Tries, "trie")
		took = strings.Replace(took, "tries", "tries, ", 1)
		if s.ByHand > 0 {
			took += fmt.Sprintf("%d by hand, ", s.ByHand)
		}
	}
	if s.Tries > 0 {
		took += text.Took(text.FromMS(s.TookMS))
	}
	head := fmt.Sprintf("<span class=\"number\">%d</span> <span class=\"title\">%s</span> <span class=\"verdict %s\">%s</span> <span class=\"took\">%s</span>", n, escape(l.Step), class(outcome), escape(outcome), took)
	switch {
	case l.Verdict == "":
		p.endStep()
		open := ""
		if s.Verdict != verdict.Passed && s.Verdict != verdict.Skipped {
			open = " open"
		}
		fmt.Fprintf(p.steps, "<details class=\"step\"%s><summary>%s</summary>\n", open, head)
		if s.Why != "" {
			fmt.Fprintf(p.steps, "<p class=\"why\">%s</p>\n", escape(s.Why))
		}
		p.step = l.Step
	case p.step == l.Step:
		p.endStep()
	default: // it was not begun
		fmt.Fprintf(p.steps, "<div class=\"step bare\">%s</div>\n", head)
	}
}

func (p *pageWriter) endStep() {
	if p.step == "" {
		return
	}
	if p.inTable {
		fmt.Fprint(p.steps, "</tbody></table>\n")
	}
	fmt.Fprint(p.steps, "</details>\n")
	p.step, p.inTable = "", false
}
