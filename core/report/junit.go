package report

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// The elements of JUnit XML in the order that its strictest schema in common use
// wants: that of the Ant task, which the others take too.
type (
	junitSuites struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []junitSuite
	}
	junitSuite struct {
		XMLName    xml.Name  `xml:"testsuite"`
		Package    string    `xml:"package,attr"`
		ID         int       `xml:"id,attr"`
		Name       string    `xml:"name,attr"`
		Timestamp  string    `xml:"timestamp,attr"` // UTC without a zone
		Host       string    `xml:"hostname,attr"`
		Tests      int       `xml:"tests,attr"`
		Failures   int       `xml:"failures,attr"`
		Errors     int       `xml:"errors,attr"`
		Time       string    `xml:"time,attr"` // seconds
		Properties []junitIs `xml:"properties>property"`
		Cases      []junitCase
		Out        string `xml:"system-out"`
		Err        string `xml:"system-err"`
	}
	junitIs struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	junitCase struct {
		XMLName xml.Name  `xml:"testcase"`
		Class   string    `xml:"classname,attr"`
		Name    string    `xml:"name,attr"`
		Time    string    `xml:"time,attr"`
		Skipped *struct{} `xml:"skipped"`
		Error   *junitWhy `xml:"error"`
		Failure *junitWhy `xml:"failure"`
	}
	junitWhy struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// mostOut is how many bytes of measurements stand in the output of a suite; the
// table of them has all.
const mostOut = 1 << 20

// asJUnit writes each step as a test case, and each direction of a link test or
// other result that stands alone. What could not be judged is an error, what was not
// tested is skipped.
func asJUnit(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	s := NewJUnit(d.Name(), d.Origin.Machine, d.Began, d.TookMS)
	for _, row := range d.about() {
		s.suite.Properties = append(s.suite.Properties, junitIs{row[0], row[1]})
	}
	s.cases(d)
	out, err := junitOut(d, r)
	if err != nil {
		return err
	}
	s.suite.Out = out
	if !d.Whole() {
		s.suite.Err = "the record is " + d.Words()
	}
	return s.Write(w)
}

// JUnit is a suite of test cases that becomes JUnit XML.
type JUnit struct{ suite junitSuite }

// NewJUnit begins a suite: its name, the machine, when it began and how long it took in milliseconds.
func NewJUnit(name, machine string, began time.Time, tookMS float64) *JUnit {
	return &JUnit{junitSuite{Package: "uparrot", Name: text.Line(name), Host: cmp.Or(text.Line(machine), "unknown"), Time: seconds(tookMS), Timestamp: began.UTC().Format("2006-01-02T15:04:05")}}
}

// Write writes the suite.
func (j *JUnit) Write(w io.Writer) error {
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	if err := enc.Encode(junitSuites{Suites: []junitSuite{j.suite}}); err != nil {
		return fmt.Errorf("write the XML: %w", err)
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// Add adds a test case of a class; "" is that of the suite.
func (j *JUnit) Add(class, title string, v verdict.Verdict, why string, ms float64) {
	s := &j.suite
	c := junitCase{Class: cmp.Or(text.Line(class), s.Name), Name: text.Line(title), Time: seconds(ms)}
	told := &junitWhy{Message: text.Line(why), Type: string(v), Text: text.Line(why)}
	switch v {
	case verdict.Passed:
	case verdict.Measured: // a case has no properties in the strictest schema, but its suite has
		s.Properties = append(s.Properties, junitIs{"measured", c.Name})
	case verdict.Failed:
		c.Failure = told
		s.Failures++
	case verdict.Untested, verdict.Skipped:
		c.Skipped = &struct{}{}
	default:
		c.Error = told
		s.Errors++
	}
	s.Tests++
	s.Cases = append(s.Cases, c)
}

// cases adds a case for all that has a verdict.
func (j *JUnit) cases(d *Digest) {
	for _, st := range d.Steps {
		if st.Verdict == "" {
			st.Verdict, st.Why = verdict.Broken, "the record ends within this step"
		}
		j.Add("", st.Title, st.Verdict, st.Why, st.TookMS)
	}
	if len(d.Steps) == 0 {
		for _, sum := range d.tests() {
			for _, way := range sum.Directions {
				j.Add("", way.From+" to "+way.To, way.Verdict, strings.Join(way.Why, "; "), sum.TookMS)
			}
		}
		for _, r := range d.Results {
			j.Add("", r.What, r.Verdict, r.words(), d.TookMS)
		}
	}
	if d.Verdict == "" {
		j.Add("", "the run came to its end", verdict.Broken, d.Words(), 0)
	} else if bad := d.Verdict == verdict.Broken || d.Verdict == verdict.Failed; j.suite.Tests == 0 || bad && j.suite.Errors+j.suite.Failures == 0 {
		j.Add("", "the run came to its end", d.Verdict, d.Why, d.TookMS)
	}
}

// junitOut is what was measured and found, a line each.
func junitOut(d *Digest, r io.ReadSeeker) (string, error) {
	out := []byte{}
	err := events(r, func(e record.Event) error {
		if !e.IsMeasurement() || len(out) > mostOut {
			return nil
		}
		m, err := measurement(e)
		if err != nil {
			return err
		}
		out = fmt.Appendf(out, "%s: %s: %s", text.Line(m.Step), text.Line(m.What), text.Line(m.Shown()))
		if m.Judged() {
			out = fmt.Appendf(out, ", wanted %s", text.Line(m.Wanted()))
		}
		out = fmt.Appendf(out, ": %s\n", m.Verdict)
		return nil
	})
	for _, sum := range d.Links {
		for _, way := range sum.Directions {
			for _, row := range LinkRows(sum, way) {
				out = fmt.Appendf(out, "%s to %s: %s: %s\n", text.Line(way.From), text.Line(way.To), row[0], text.Line(row[1]))
			}
		}
		for _, row := range StretchRows(sum.Stretches) {
			out = fmt.Appendf(out, "stretch %s\n", strings.Join(row, ", "))
		}
	}
	for _, r := range d.Results {
		for _, row := range r.Rows {
			out = fmt.Appendf(out, "%s: %s: %s\n", text.Line(r.What), row[0], row[1])
		}
	}
	return string(out), err
}

func seconds(ms float64) string { return fmt.Sprintf("%.3f", ms/1000) }
