package perform

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What a procedure reads and writes is told as it was found and as it was left; what did not
// take, what shows only later, and secrets are told as such, never as a value.
func TestSettingsSeen(t *testing.T) {
	book := filepath.Join(t.TempDir(), "radio.toml")
	text := "family = \"Radio\"\ndialect = \"at\"\n"
	for _, name := range []string{"good", "deaf", "late", "refused", "code"} {
		text += "[[setting]]\nname = \"" + name + "\"\npair = \"equal\"\nread = \"AT+" + name + "?\"\nanswer = \"{value:int}\"\nwrite = \"AT+" + name + "={value}\"\n" +
			map[string]string{"late": "effect = \"restart\"\n", "code": "secret = true\n"}[name]
	}
	text += "[[identity]]\nname = \"serial number\"\nread = \"AT+serial?\"\nanswer = \"{value:word}\"\n"
	if err := os.WriteFile(book, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nkeep going\nport a: phrasebook \""+book+"\"\n"+
			"secret key\nstep \"1\"\n get a \"serial number\" as id\n get a good as g\n set a good = 5\nend\nstep \"2\"\n get a deaf as d\n set a deaf = 5\nend\nstep \"3\"\n set a late = 5\nend\nstep \"4\"\n set a refused = 5\nend\nstep \"5\"\n set a code = key\nend\n", map[string]any{"key": "7731905"})
		values := map[string]string{"good": "11", "deaf": "12", "late": "13", "refused": "14", "code": "10", "serial": "R-1"}
		s.answers("a", func(line string) string {
			name, value, write := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "AT+"), "=")
			switch {
			case write && name == "refused":
				return "\r\nERROR\r\n"
			case write && name == "good":
				values[name] = value
			case !write:
				return "\r\n" + values[strings.TrimSuffix(name, "?")] + "\r\n\r\nOK\r\n"
			}
			return "\r\nOK\r\n"
		})
		var told []string
		s.watch = func(e record.Event) {
			if of, ok := e.Value.(record.Settings); ok {
				words := of.When + " of " + of.Family + ":"
				for _, v := range append(of.Identity, of.Settings...) {
					words += " " + v.Name + " " + v.Shown() + map[bool]string{true: "!"}[v.Bad] + " " + v.Pair + ","
				}
				told = append(told, words)
			}
		}
		res := s.Do(t.Context())
		want := []string{
			"as found of Radio: serial number R-1 , good 11 equal, deaf 12 equal,",
			"as left of Radio: serial number R-1 , good 5 equal, deaf (a write failed)! equal, late (written 5, not read back) equal, refused (a write failed)! equal, code (a secret) equal,",
		}
		if strings.Join(told, "\n") != strings.Join(want, "\n") || res.Verdict != verdict.Failed || strings.Contains(s.record.String(), "7731905") {
			t.Errorf("%s: %s", res.Verdict, strings.Join(told, "\n"))
			for _, st := range res.Steps {
				t.Log(st.Title, st.Verdict, st.Why)
			}
		}
	})
}
