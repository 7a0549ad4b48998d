package report

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"uparrot/core/record"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// view makes a record readable in one form. The digest is that of the same
// record.
type view struct {
	name  string
	about string
	write func(w io.Writer, d *Digest, r io.ReadSeeker, table string) error
}

var views = []view{
	{"html", "one page that works offline and prints well", asHTML},
	{"junit", "JUnit XML, for continuous integration", asJUnit},
	{"csv", "tables: measurements, link frames or steps", asCSV},
	{"text", "the dialogue with times", asText},
	{"hex", "every byte with its time", asHex},
	{"pcapng", "the traffic for packet analysers", asPcapng},
	{"markdown", "a summary to paste into a ticket", asMarkdown},
}

// Forms are the names of the views of a record.
func Forms() []string {
	var names []string
	for _, v := range views {
		names = append(names, v.name)
	}
	return names
}

// FormsAbout lists the views, each with what it is.
func FormsAbout() [][2]string {
	var list [][2]string
	for _, v := range views {
		list = append(list, [2]string{v.name, v.about})
	}
	return list
}

// View writes a record in a form. It depends on nothing but the record, so the
// same record gives the same bytes; memory does not grow with its length. The
// table, one of Tables or "", is for csv alone.
func View(w io.Writer, r io.ReadSeeker, form, table string) (*Digest, error) {
	d, err := readDigest(r)
	if err != nil {
		return d, err
	}
	for _, v := range views {
		if v.name == form {
			bw := bufio.NewWriterSize(w, 64<<10)
			if err := v.write(bw, d, r, table); err != nil {
				return d, err
			}
			if err := bw.Flush(); err != nil {
				return d, fmt.Errorf("write the report: %w", err)
			}
			return d, nil
		}
	}
	return d, fmt.Errorf("there is no form %q; there are %s", form, strings.Join(Forms(), ", "))
}

// asText writes the dialogue with times.
func asText(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	fmt.Fprintf(w, "%s\n%s", text.Line(d.Name()), strings.ToUpper(d.Outcome()))
	if s := d.Sentence(); s != "" {
		fmt.Fprintf(w, ": %s", s)
	}
	fmt.Fprint(w, "\n\n")
	wide := 0
	for _, row := range d.about() {
		wide = max(wide, len(row[0]))
	}
	for _, row := range d.about() {
		fmt.Fprintf(w, "%-*s  %s\n", wide, row[0], row[1])
	}
	zone := d.Began.Location()
	fmt.Fprintf(w, "\nTimes are %s.\n", d.Began.Format("-07:00"))
	day := ""
	ports := 4
	for _, p := range d.Ports {
		ports = max(ports, len([]rune(p.Name)))
	}
	dia := newDialogue(func(l dialogueLine) error {
		if l.Word == roundWord {
			return nil
		}
		t := l.Time.In(zone)
		if today := t.Format("2006-01-02"); today != day {
			day = today
			fmt.Fprintf(w, "\n%s\n", day)
		}
		stamp := t.Format("15:04:05.000")
		var err error
		switch {
		case l.Word == string(record.Step) && l.Verdict == "":
			_, err = fmt.Fprintf(w, "\n%s  step: %s\n", stamp, text.Line(l.Step))
		case l.Word == string(record.Step) || l.Word == string(record.Verdict):
			words := string(l.Verdict)
			if l.Text != "" {
				words += ": " + l.Text
			}
			if l.Word == string(record.Step) && l.Verdict != verdict.Passed && l.Verdict != verdict.Failed {
				words = "step: " + text.Line(l.Step) + ": " + words // it may not have begun
			}
			_, err = fmt.Fprintf(w, "%s  %s\n", stamp, words)
		default:
			words := l.Text
			if l.Verdict != "" && l.Word != string(record.Try) {
				words += "  " + string(l.Verdict)
			}
			_, err = fmt.Fprintf(w, "%s  %-*s  %-7s %s\n", stamp, ports, text.Line(l.Port), l.Word, words)
		}
		return err
	})
	if err := events(r, dia.take); err != nil {
		return err
	}
	return dia.flush()
}

// hexWide is how many bytes stand in a row.
const hexWide = 16

// asHex writes every byte with the time at which it was read or written.
func asHex(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	fmt.Fprintf(w, "%s\nTimes are %s; > is said, < is heard.\n\n", text.Line(d.Name()), d.Began.Format("-07:00"))
	zone := d.Began.Location()
	counts := map[string]int{}
	return events(r, func(e record.Event) error {
		sign := map[record.Kind]string{record.In: "<", record.Out: ">"}[e.Kind]
		if sign == "" {
			return nil
		}
		b, err := e.Bytes()
		if err != nil {
			return fmt.Errorf("the record holds bytes that are none: %w", err)
		}
		for at := 0; at < len(b); at += hexWide {
			row := b[at:min(len(b), at+hexWide)]
			letters := make([]byte, len(row))
			for i, c := range row {
				if letters[i] = c; c < ' ' || c > '~' {
					letters[i] = '.'
				}
			}
			if _, err := fmt.Fprintf(w, "%s %s %s %08x  % -*x  %s\n", e.Time.In(zone).Format("2006-01-02 15:04:05.000000"), text.Line(e.Port), sign, counts[sign+e.Port]+at, 3*hexWide-1, row, letters); err != nil {
				return err
			}
		}
		counts[sign+e.Port] += len(b)
		return nil
	})
}
