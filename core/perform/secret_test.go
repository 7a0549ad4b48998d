package perform

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"uparrot/core/record"
	"uparrot/core/sim/simtest"
)

// hand is an operator who notes what he is told.
type hand struct{ told strings.Builder }

func (h *hand) Tell(_ context.Context, text string) error { h.told.WriteString(text); return nil }
func (h *hand) Confirm(_ context.Context, question string) (bool, error) {
	h.told.WriteString(question)
	return true, nil
}
func (h *hand) Value(_ context.Context, question string, _ func(string) error) (string, error) {
	h.told.WriteString(question)
	return "7", nil
}

// Wherever a secret, or what is made of it, may be shown, it is not: in events, in the
// record, in results, to the operator, in what a fault says; and nothing else is spoilt.
func TestSecretsAreShownNowhere(t *testing.T) {
	for _, c := range []struct {
		secret, steps string
		also          []string // what must not be shown besides
		want          string   // what must
	}{
		{"Frost-and-Rime", "say dev: {code}", nil, `"verdict":"passed"`},
		{"Frost-and-Rime", "say dev: key {upper(code)} / hear dev: key {}", []string{"FROST-AND-RIME"}, "key [secret]"},
		{"Frost-and-Rime", "let x = upper(code) + \"!\" / say dev: {x} / check x == \"no\"", []string{"FROST-AND-RIME!"}, "x is"},
		{"Frost-and-Rime", "for part in split(code, \"-\") / check part == \"no\" / end", []string{"Frost", "Rime"}, "part is"},
		{"Frost-and-Rime", "let list = split(code, \"-\") / check len(list) == 9", []string{"Frost", "Rime"}, "list is"},
		{"Frost-and-Rime", "tell operator \"type {code} or {lower(code)}\"", []string{"frost-and-rime"}, "type [secret]"},
		{"Frost-and-Rime", "ask operator \"does it show {code}?\"", nil, "does it show [secret]?"},
		{"Frost-and-Rime", "check number(code) > 3", nil, `"verdict":"failed"`},
		{"Frost-and-Rime", "hear dev within 100ms: {=code}", nil, `"verdict":"failed"`},
		{"Frost-and-Rime", "fail \"it is {code}\"", nil, "it is [secret]"},
		{"471100", "limit number(code) in 1..5", nil, "made of a secret"},
		{"471100", "let n = number(code) / check n == 5", nil, "n is"},
		{"9600", "line dev speed {number(code)}", nil, "made of a secret"},
		{"12", "say dev: pin 12 / say dev: volts / hear dev: volts {v:num} / limit v in 12..13 V", []string{"pin 12"}, "12.47"},
		{"e", "say dev: {code} / say dev: volts / hear dev: volts {v:num} / limit v in 0..13 V", nil, `"verdict":"passed"`},
	} {
		synctest.Test(t, func(t *testing.T) {
			text := fmt.Sprintf("procedure \"S\"\nkeep going\nsecret code\nport dev: dialect lines, ending cr\nstep \"a\"\n %s\nend\n", strings.ReplaceAll(c.steps, " / ", "\n "))
			run, modules := staged(t, text, "")
			simtest.Answer(modules[0], func(line string) string {
				if line == "volts" {
					return "volts 12.47\r\n"
				}
				return line + "\r\n" // it repeats what it is told
			})
			run.Values["code"] = c.secret
			var written bytes.Buffer
			w := record.New(&written, record.Origin{})
			var seen strings.Builder
			run.Events = record.NewStream(w, func(e record.Event) {
				fmt.Fprintln(&seen, e.Text, e.Why, e.Value, e.Err)
			})
			run.Events.Hide(c.secret)
			h := &hand{}
			run.Operator = h
			res := run.Do(t.Context())
			if err := w.Close(); err != nil {
				t.Fatal(err)
			}
			result, err := json.Marshal(res)
			if err != nil {
				t.Fatal(err)
			}
			all := written.String() + seen.String() + h.told.String() + string(result) + fmt.Sprint(res.Err)
			hidden := c.also
			if len(c.secret) >= 4 {
				hidden = append(hidden, c.secret)
			}
			for _, s := range hidden {
				if strings.Contains(all, s) {
					t.Errorf("%s: %q is shown:\n%s", c.steps, s, all)
				}
			}
			if !strings.Contains(all, c.want) {
				t.Errorf("%s: %q is missing:\n%s", c.steps, c.want, all)
			}
		})
	}
}
