package verdict

import "testing"

func TestWorse(t *testing.T) {
	order := []Verdict{Passed, Skipped, Untested, Undecided, Failed, Broken}
	for i, a := range order {
		if Worse("", a) != a || Worse(a, "") != a {
			t.Errorf("%s beside nothing is %s, %s", a, Worse("", a), Worse(a, ""))
		}
		for j, b := range order {
			if want := order[max(i, j)]; Worse(a, b) != want {
				t.Errorf("the worse of %s and %s is %s, want %s", a, b, Worse(a, b), want)
			}
		}
	}
}
