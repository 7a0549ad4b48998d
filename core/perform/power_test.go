package perform

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
)

// Power by the switch of a board: what the board is told and when, who may speak to it meanwhile, and that no module is
// left dark, however a run ends.
func TestPowerByHand(t *testing.T) {
	for name, c := range map[string]struct {
		body  string
		off   time.Duration // that the bench says
		board string        // what it answers off, and on: as it should, or not at all
		want  string
	}{
		"off and on":                 {"power radio cycle", 0, "", "passed 0s relay 3 off; 1s relay 3 on"},
		"for a time that is given":   {"power radio cycle for 3s", 2 * time.Second, "", "passed 0s relay 3 off; 3s relay 3 on"},
		"for the time of the bench":  {"power radio cycle", 2 * time.Second, "", "passed 0s relay 3 off; 2s relay 3 on"},
		"off, and left so":           {"power radio off\npause 5s", 0, "", "passed 0s relay 3 off; 5s relay 3 on"},
		"off, and it fails":          {"power radio off\ncheck 1 == 2", 0, "", "failed 0s relay 3 off; 0s relay 3 on"},
		"off, on, and it fails":      {"power radio off\npower radio on\ncheck 1 == 2", 0, "", "failed 0s relay 3 off; 0s relay 3 on"},
		"the board does not do it":   {"power radio cycle", 0, "off", "failed 0s relay 3 off; 2s relay 3 on"},
		"it goes off and not on":     {"power radio cycle", 0, "on", "broken 0s relay 3 off; 1s relay 3 on; 3s relay 3 on"},
		"another port keeps it busy": {"power radio cycle", 0, "lock", "broken "},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				book, began := simtest.Book(t, "redshank.toml"), time.Now()
				var told []string
				locked := 0
				board := &bench.Station{Name: "9 gates", Address: port.Address{Where: "gates"}, Setup: book.Setup(), Phrasebook: book}
				board.Dial = func() (port.Port, error) {
					if locked != 1 {
						t.Error("the board is spoken to without its lock")
					}
					host, module := port.Pipe("gates", board.Setup.Line())
					go func() {
						in := bufio.NewScanner(module)
						for in.Scan() {
							line := in.Text()
							told = append(told, fmt.Sprintf("%v %s", time.Since(began).Round(time.Second), line))
							which, word, _ := strings.Cut(strings.TrimPrefix(line, "relay "), " ")
							if word != c.board {
								fmt.Fprintf(module, "relay %s is %s\r\n", which, word)
							}
						}
					}()
					return host, nil
				}
				proc, err := procedure.Parse("t.parrot", "procedure \"T\"\nport radio: dialect lines\nstep \"s\"\n"+c.body+"\nend\n")
				if err != nil {
					t.Fatal(err)
				}
				radio, module := simtest.Played("radio", proc.Ports[0].Whole(), nil)
				go func() { _, _ = io.Copy(io.Discard, module) }()
				radio.Supply = &bench.Supply{Switch: "relay 3", By: board, Off: c.off, Lock: func(context.Context) (func(), error) {
					if c.board == "lock" {
						return nil, errors.New("it is busy")
					}
					locked++
					return func() { locked-- }, nil
				}}
				stations := map[string]*bench.Station{"radio": radio}
				var notes []string
				r := Run{Procedure: proc, Stations: stations, Sleep: time.Sleep}
				r.Events = record.NewStream(nil, func(e record.Event) {
					if s, is := e.Value.(record.Supplied); is {
						notes = append(notes, s.Power+" "+e.Port+": "+e.Text)
					}
				})
				res := r.Do(t.Context())
				module.Close()
				time.Sleep(time.Minute)
				if got := string(res.Verdict) + " " + strings.Join(told, "; "); got != c.want {
					t.Errorf("%s\nwant\n%s\n%+v", got, c.want, res.Steps)
				}
				if locked != 0 || len(stations) != 1 {
					t.Errorf("%d locks are left, and the ports %v", locked, slices.Sorted(maps.Keys(stations)))
				}
				want := 0
				for i, line := range told { // what the board has not answered is not told as done
					if !strings.HasSuffix(line, " "+c.board) || i > 1 && c.board == "off" {
						want++
					}
				}
				if len(notes) != want || want > 0 && !strings.HasPrefix(notes[want-1], "on radio: power of radio on, by relay 3 of 9 gates") && c.board != "on" {
					t.Errorf("%d notes, want %d: %q", len(notes), want, notes)
				}
			})
		})
	}
}
