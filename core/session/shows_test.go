package session

import (
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/sim/simtest"
)

// A slot whose module has echoed the question and was taken out is asked again: the next module answers.
func TestShowsAsksAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		book, err := phrasebook.Parse("radio.toml", "family = \"Radio\"\ndialect = \"at\"\n[line]\nending = \"cr\"\n[[identity]]\nname = \"serial number\"\nread = \"AT+SN?\"\nanswer = \"+SN: {value}\"\n")
		if err != nil {
			t.Fatal(err)
		}
		station, module := simtest.Played("radio", book.Setup(), book)
		asked := 0
		simtest.Answer(module, func(line string) string {
			if asked++; asked == 1 {
				return line + "\r\n" // and is pulled out
			}
			return line + "\r\n+SN: LK-7\r\n\r\nOK\r\n"
		})
		m := &Modules{Stations: []*bench.Station{station}}
		began := time.Now()
		if err := m.Shows(t.Context(), station, book.Identity[0].Way().Statements(phrasebook.AT, "module", "it"), 10*time.Minute); err != nil {
			t.Error(err)
		}
		if took := time.Since(began); asked != 2 || took > 10*time.Second {
			t.Errorf("asked %d times, took %v", asked, took)
		}
	})
}
