package report

import (
	"bytes"
	"testing"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What came of a record in a word and a sentence, for each way in which it can
// end.
func TestDigest(t *testing.T) {
	begin := record.Event{Kind: record.Begin, Text: "Commission", Data: []byte(`{"inputs":{"b":2,"a":1}}`)}
	step := func(title string, verdict verdict.Verdict) record.Event {
		return record.Event{Kind: record.Step, Step: title, Verdict: verdict}
	}
	over := func(verdict verdict.Verdict, why string) record.Event {
		return record.Event{Kind: record.Verdict, Verdict: verdict, Why: why}
	}
	link := record.Event{Kind: record.Link, Verdict: "passed", Data: []byte(`{"kind":"link test","directions":[{"from":"valley","to":"summit","sent":200,"lost":3}]}`)}
	bits := record.Event{Kind: record.Result, Verdict: "failed", Data: []byte(`{"kind":"bit error test","bits_sent":9600,"ratio":{"low":0.5,"high":1}}`)}
	for name, c := range map[string]struct {
		events []record.Event
		closed bool
		want   string
	}{
		"all passed":        {[]record.Event{begin, step("a", ""), step("a", "passed"), step("b", ""), step("b", "passed"), over("passed", "")}, true, "Commission|passed|all 2 steps passed"},
		"some did not":      {[]record.Event{begin, step("a", "failed"), step("b", "untested"), step("c", "skipped"), step("d", "passed"), over("failed", "")}, true, "Commission|failed|1 of 4 steps passed, 1 failed, 1 untested, 1 skipped"},
		"killed in a step":  {[]record.Event{begin, step("a", "passed"), step("b", "")}, false, "Commission|unfinished|1 of 2 steps passed, 1 not ended"},
		"a link":            {[]record.Event{link, over("passed", "")}, true, "Link test: valley and summit|passed|3 of 200 frames lost from valley to summit"},
		"a link that broke": {[]record.Event{over("broken", "the port has gone")}, true, "Talk|broken|the port has gone"},
		"bits":              {[]record.Event{bits, over("failed", "")}, true, "Bit error test|failed|9600 sent as , 0 compared, 0 wrong, 0 while out of step"},
		"by hand":           {nil, true, "Talk|no verdict|"},
	} {
		var buf bytes.Buffer
		w := record.New(&buf, record.Origin{Command: "talk"})
		for _, e := range c.events {
			w.Event(e)
		}
		if c.closed {
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
		}
		d, err := readDigest(bytes.NewReader(buf.Bytes()))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if got := d.Name() + "|" + d.Outcome() + "|" + d.Sentence(); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
		if name == "bits" && (len(d.Results) != 1 || d.Results[0].What != "bit error test" || d.Results[0].Rows[0] != [2]string{"bits", "9600 sent as , 0 compared, 0 wrong, 0 while out of step"}) {
			t.Errorf("%+v", d.Results)
		}
	}
}
