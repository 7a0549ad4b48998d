package perform

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/verdict"
)

// What a person wants of a failed step is done: stop, also where the procedure keeps going;
// go on, also where it does not; again, by the procedure as it was or as it was mended.
func TestSecondAttempt(t *testing.T) {
	body := func(keep, node string) string {
		return keep + "step \"first\"\n say north: AT~NODE?\n hear north: ~NODE: {n:int}\n check n == " + node + "\nend\nstep \"second\"\n say north: AT\nend\n"
	}
	mended := func(text string) *Mended {
		f, err := procedure.Parse("t.parrot", head+text)
		if err != nil {
			t.Fatal(err)
		}
		return &Mended{File: f, Sums: map[string]record.Digest{"t.parrot": "00"}}
	}
	type choice struct {
		Choice
		*Mended
	}
	for name, c := range map[string]struct {
		text    string
		choices []choice
		want    verdict.Verdict
		steps   string
		limits  int
	}{
		"stop":               {body("keep going\n", "9"), []choice{{Stop, nil}}, verdict.Failed, "first failed 1 0, second untested 0 0", 0},
		"go on":              {body("", "9"), []choice{{GoOn, nil}}, verdict.Failed, "first failed 1 0, second passed 1 0", 0},
		"again, in vain":     {body("", "9"), []choice{{Again, nil}, {Again, nil}, {Stop, nil}}, verdict.Failed, "first failed 3 2, second untested 0 0", 0},
		"again, mended":      {body("", "9"), []choice{{Again, mended(body("", "1"))}}, verdict.Passed, "first passed 2 1, second passed 1 0", 0},
		"the next is mended": {body("", "9"), []choice{{Again, mended(strings.Replace(body("", "1"), "AT\nend", "AT\n check zero == 1\nend", 1))}, {Stop, nil}}, verdict.Failed, "first passed 2 1, second failed 1 0", 0},
		"measured anew": {"step \"first\"\n limit 5 in 1..9 V \"a\"\n say north: AT~NODE?\n hear north: ~NODE: {n:int}\n check n == 9\nend\n",
			[]choice{{Again, nil}, {Stop, nil}}, verdict.Failed, "first failed 2 1", 1},
	} {
		synctest.Test(t, func(t *testing.T) {
			var told []string
			res, _, _ := performWith(t, t.Context(), head+c.text, func(r *Run) {
				r.OnFailure = func(_ context.Context, failed StepResult) (Choice, *Mended) {
					told = append(told, failed.Why)
					time.Sleep(time.Minute) // to think about it is no part of the step
					next := c.choices[0]
					c.choices = c.choices[1:]
					return next.Choice, next.Mended
				}
			})
			var steps []string
			for _, s := range res.Steps {
				if s.TookMS > 30_000 {
					t.Errorf("%s: %s took %v ms", name, s.Title, s.TookMS)
				}
				steps = append(steps, strings.TrimSpace(strings.Join([]string{s.Title, string(s.Verdict), digits(s.Tries), digits(s.ByHand)}, " ")))
			}
			if got := strings.Join(steps, ", "); res.Verdict != c.want || got != c.steps || len(c.choices) > 0 || len(res.Limits) != c.limits {
				t.Errorf("%s: %s, %s, %d limits; asked about %q", name, res.Verdict, got, len(res.Limits), told)
			}
		})
	}
	for text, want := range map[string]string{
		"port north\nstep \"a\"\nend\n":                  "",
		"port north\nport south\nstep \"a\"\nend\n":      "port south is new",
		"port north\nstep \"b\"\nend\n":                  "step b is new",
		"port north\ninput n: int\nstep \"a\"\nend\n":    "input n: int is new",
		"port north\nstep \"a\"\nend\nstep \"c\"\nend\n": "step c is new",
	} {
		read := func(text string) *procedure.File {
			f, err := procedure.Parse("t.parrot", "procedure \"T\"\n"+strings.ReplaceAll(text, "\nend", "\n pause 1ms\nend"))
			if err != nil {
				t.Fatal(err)
			}
			return f
		}
		now := read("port north\nstep \"a\"\nend\n")
		err := Adoptable(now, read(text))
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
		if err := Adoptable(read(text), now); want != "" && err == nil {
			t.Errorf("%q: the other way it is adopted", text)
		}
	}
}

func digits(n int) string { return string(rune('0' + n)) }

// Nobody is asked once a run was interrupted: what is performed always is done, and told.
func TestNobodyIsAskedAfterInterrupt(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		asked := 0
		res, _, _ := performWith(t, ctx, head+"step \"long\"\n say north: AT\n pause 1h\nend\nstep \"put back\" always\n say north: AT~NODE?\n hear north: ~NODE: {n:int}\n check n == 9\nend\n", func(r *Run) {
			r.OnFailure = func(context.Context, StepResult) (Choice, *Mended) {
				asked++
				return Stop, nil
			}
			go func() {
				time.Sleep(time.Second)
				cancel()
			}()
		})
		if asked > 0 || res.Steps[1].Verdict != verdict.Failed {
			t.Errorf("asked %d times, %+v", asked, res.Steps)
		}
	})
}

// A secret that is said as the bytes of a number stands nowhere either.
func TestSecretAsBytes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, _, rec := performWith(t, t.Context(), strings.Replace(head, "input zero", "secret code\ninput zero", 1)+"step \"s\"\n say bytes north: {u32(code)}{len(code):u8}\n say bytes north: {u32(code):u32}{sum8(code):u8}{xor8(code):u8}{cr}\nend\n", func(r *Run) {
			r.Values["code"] = "snow"
			r.Events.Hide("snow")
		})
		for _, text := range []string{"snow", "1936617335", `ws\u`, "736e6f77"} {
			if strings.Contains(rec, text) {
				t.Errorf("the record has %q:\n%s", text, rec)
			}
		}
	})
}
