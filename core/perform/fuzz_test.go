package perform

import (
	"io"
	"testing"
	"testing/synctest"
	"time"
)

// Whatever a module sends, in whatever pieces, a performance comes to its end within the
// limits of its waits.
func FuzzModule(f *testing.F) {
	for _, seed := range []string{"\r\nOK\r\n", "tower# ", "name: \x00code: \x00tower# ", "-- more --\x00\b\b\b", "\x1b[32mrope\x1b[0m\r\ntower# ", "0\r4\r", "NAY 3\r\n12 > ", "\xff\xfe\r"} {
		f.Add([]byte(seed), uint8(0))
		f.Add([]byte(seed), uint8(3))
	}
	heads := []string{"dialect at, ending cr", "dialect lines, ending cr, final \"DONE\"", "dialect bytes, ending none",
		"dialect console, ending cr, prompt \"tower#\", prompt \"{n:int} >\", pager \"-- more --\", refusal \"NAY {}\", login \"name:\", password \"code:\""}
	f.Fuzz(func(t *testing.T, sent []byte, which uint8) {
		synctest.Test(t, func(t *testing.T) {
			head := heads[int(which)%len(heads)]
			steps := "step \"a\" tries 2\n say dev: ATV0\n hear dev within 1s: {x}\nend\nstep \"b\"\n say dev: ATQ1\n hear bytes dev: {y:bytes(2)}\nend\nstep \"c\"\n say dev: go\n collect z from dev until bytes within 2s: end\n check len(z) > 3\nend\n" +
				"step \"d\"\n say dev: go\n any within 1s\n case hear dev: {v:num} V\n  limit v in 1..2 V\n case nothing\n  say bytes dev: {hex 03}\n end\nend\nstep \"e\"\n quiet dev 100ms within 1s\n say dev answer later: go\nend\n"
			if which%4 == 3 {
				steps += "step \"f\"\n log in dev as \"ops\" with code within 5s\nend\n"
			}
			run, modules := staged(t, "procedure \"F\"\nkeep going\nsecret code\nport dev: "+head+"\n"+steps, "[[notice]]\nname = \"alarm\"\nheard = \"* alarm {n:int}\"\n[banner]\nheard = \"UP\"\n")
			go func() {
				for rest := sent; len(rest) > 0; time.Sleep(time.Duration(rest[0]) * time.Millisecond) {
					n := min(len(rest), 1+int(rest[0]%7))
					if _, err := modules[0].Write(rest[:n]); err != nil {
						return
					}
					if rest = rest[n:]; len(rest) == 0 {
						return
					}
				}
			}()
			go io.Copy(io.Discard, modules[0])
			began := time.Now()
			res := run.Do(t.Context())
			if took := time.Since(began); took > 2*time.Minute || len(res.Steps) < 5 {
				t.Errorf("took %v for %d steps", took, len(res.Steps))
			}
			time.Sleep(time.Hour) // the module may be sending still
		})
	})
}
