package perform

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Where a step is left out its port is set as it had set it: speed, frame, ending, dialect, power. That is told
// where the step stands; what cannot be set ends the run before anything is said.
func TestBroughtBack(t *testing.T) {
	odd := uart.Frame{DataBits: 7, Parity: uart.Odd, Stop: 2}
	for name, c := range map[string]struct {
		to      Line
		nobody  bool
		verdict verdict.Verdict
		told    string // in the record
		heard   string // by the module
		line    string // at which that was said
	}{
		"speed and frame":    {Line{ChangedLine: record.ChangedLine{Speed: 57600, Frame: odd}}, false, verdict.Passed, `57600 7O1, as step \"fast\" had set it`, "who\r", "57600 7O1"},
		"what it is already": {Line{ChangedLine: record.ChangedLine{Speed: 9600}}, false, verdict.Passed, "", "who\r", "9600 8N1"},
		"ending":             {Line{ChangedLine: record.ChangedLine{Ending: phrasebook.LF}}, false, verdict.Passed, `ending lf, as step \"fast\" had set it`, "who\n", "9600 8N1"},
		"dialect":            {Line{ChangedLine: record.ChangedLine{Dialect: phrasebook.AT}}, false, verdict.Failed, `dialect at, as step \"fast\" had set it`, "who\r", "9600 8N1"},
		"power, by hand":     {Line{Power: "off"}, false, verdict.Passed, "Take the power of a away", "who\r", "9600 8N1"},
		"power, and nobody":  {Line{Power: "off"}, true, verdict.Broken, "which needs a person", "", ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			s := set(t, "procedure \"T\"\nport a: dialect lines, speed 9600, ending cr\nstep \"fast\"\nline a speed 57600\nend\nstep \"who\"\nsay a: who\npause 50ms\nend\n", nil)
			s.Chosen = map[string]bool{"who": true}
			s.Before = map[string]Earlier{"fast": {Lines: map[string]Line{"a": c.to}}}
			if !c.nobody {
				s.Operator = Agreeable{}
			}
			heard, line := "", ""
			go func() {
				buf := make([]byte, 100)
				for {
					n, err := s.module["a"].Read(buf)
					if err != nil {
						return
					}
					heard, line = heard+string(buf[:n]), s.host["a"].Line().String()
				}
			}()
			res := s.Do(t.Context())
			s.module["a"].Close()
			time.Sleep(time.Minute)
			if res.Verdict != c.verdict || !strings.Contains(s.record.String(), c.told) || heard != c.heard || line != c.line || c.told == "" && strings.Contains(s.record.String(), "had set it") {
				t.Errorf("%s: %s, %q at %s\n%s", name, res.Verdict, heard, line, s.record.String())
			}
		})
	}
}
