package series

import (
	"math"
	"testing"
)

// A number has its digits, but none has three hundred of them.
func TestDigits(t *testing.T) {
	for f, want := range map[float64]string{0: "0", 3.25: "3.25", -0.001: "-0.001", 123456789: "123456789", 1e20: "100000000000000000000", 1e21: "1e+21", -1e308: "-1e+308", 1e-9: "0.000000001", 1e-10: "1e-10", 5e-324: "5e-324", math.Inf(1): "+Inf", math.Inf(-1): "-Inf"} {
		if got := Number(f).String(); got != want {
			t.Errorf("%g is shown as %s, want %s", f, got, want)
		}
	}
	if got := Digits(math.NaN()); got != "NaN" {
		t.Error(got)
	}
}
