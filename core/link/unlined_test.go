package link

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/sim/simtest"
	"uparrot/core/verdict"
)

// unlined are two modules without lines: what arrives has its length told, and bytes of others beside it.
// pieces is in how many parts a message comes; every loses each so-manieth.
func unlined(t *testing.T, arrives string, pieces, every int) (a, b *bench.Station) {
	t.Helper()
	book, err := phrasebook.Parse("rook.toml", `family = "Rook"
dialect = "bytes"
[line]
ending = "cr"
[[setting]]
name = "node"
type = "int"
range = [1, 99]
read = "N?"
answer = "N={value:int}."
[carrier]
send = "S{to},{length},{payload}"
arrives = "`+arrives+`"
address = "node"
broadcast = "0"
greatest = 96
`)
	if err != nil {
		t.Fatal(err)
	}
	var at [2]*bench.Station
	var modules [2]io.ReadWriteCloser
	for i, name := range []string{"a", "b"} {
		at[i], modules[i] = simtest.Played(name, book.Setup(), book)
	}
	sent := 0
	for i := range modules {
		simtest.Answer(modules[i], func(line string) string {
			if line == "N?" {
				return fmt.Sprintf("N=%d.", i+1)
			}
			parts := strings.SplitN(strings.TrimPrefix(line, "S"), ",", 3)
			if len(parts) < 3 {
				return ""
			}
			if sent++; every > 0 && sent%every == 0 {
				return "ok"
			}
			out := strings.NewReplacer("{from:int}", fmt.Sprint(i+1), "{length:int}", parts[1], "{payload:bytes(length)}", parts[2], "{strength:int}", "-71").Replace(arrives)
			for n := range pieces {
				io.WriteString(modules[1-i], out[n*len(out)/pieces:(n+1)*len(out)/pieces])
				time.Sleep(time.Millisecond)
			}
			return "ok"
		})
	}
	return at[0], at[1]
}

// In dialect bytes frames that arrive through a carrier are counted as on lines.
func TestCarrierWithoutLines(t *testing.T) {
	for _, arrives := range []string{"R{from:int},{length:int},{payload:bytes(length)}", "R{from:int},{length:int},{payload:bytes(length)},{strength:int}"} {
		for _, pieces := range []int{1, 7} {
			for every, lost := range map[int]int{0: 0, 5: 4} {
				synctest.Test(t, func(t *testing.T) {
					a, b := unlined(t, arrives, pieces, every)
					s, err := (&Test{Plan: Plan{Count: 20, Every: 100 * time.Millisecond, Size: 40, Deadline: time.Second}, A: a, B: b, Sleep: time.Sleep}).Do(t.Context())
					w := s.Directions[0]
					if err != nil || s.Verdict != verdict.Measured || w.Sent != 20 || w.Lost != lost || w.Received != 20-lost {
						t.Errorf("%s in %d, without each %dth: %v, %s, %+v", arrives, pieces, every, err, s.Verdict, w)
					}
				})
			}
		}
	}
}
