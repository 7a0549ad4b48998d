package perform

import (
	"strings"
	"testing"
	"testing/synctest"
)

// Each failure of order in time says what helps.
func TestAdvice(t *testing.T) {
	for _, c := range []struct {
		header, book string
		says         says
		step, advice string
	}{
		{lines, "", says{"up": "R3=0\r\n", "": ""}, "pause 100ms / say dev: off / hear dev within 1s: R3=0", "write hear earlier"},
		{lines, "", says{"": "addr   {line}  up\r\n"}, "say dev: net / hear dev within 1s: addr {=\"net\"} up", "The lines differ in blanks alone"},
		{console, "", says{"": "{line}\r\non\r\nlower$ "}, "say dev: show", `write at the port: prompt "lower$"`},
		{console, "", says{"": "{line}\r\n[9] lower> "}, "say dev: show", `write at the port: prompt "[9] lower>"`},
		{console, "", says{"reboot": "{line}\r\nstopping"}, "say dev: reboot", "write: say PORT restarts: reboot"},
		{console, "", says{"": "{line}" + prompt}, "say dev restarts within 1s: reboot", "Name by what a restart is known"},
		{console, "", says{"": "\x1b[7m*hut\x1b[m   "}, "say bytes dev: {cr} / hear bytes dev: *hut", "write: say PORT without answer:"},
		{guarded, "", says{"": "{line}" + prompt}, "say dev restarts within 1s: reboot", "What it shows when it starts may be another"},
		{lines, "", says{"up": "\xff\xfb\x01\xff\xfb\x03", "": ""}, "say dev: who / hear dev within 1s: board", "telnet:// in place of tcp://"},
	} {
		synctest.Test(t, func(t *testing.T) {
			h := habit{header: c.header, book: c.book, steps: []string{c.step}}
			run, modules := staged(t, h.text(), c.book)
			dev := &actor{says: c.says, module: modules[0]}
			go dev.play()
			res := run.Do(t.Context())
			if got := Advice(res.Steps[0].Err, 0); !strings.Contains(got, c.advice) {
				t.Errorf("%s: %s\nadvice %q, want %q", c.step, res.Steps[0].Why, got, c.advice)
			}
			modules[0].Close()
			synctest.Wait()
		})
	}
}
