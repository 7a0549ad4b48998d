package prbs

import "testing"

// What O.150 says of each sequence: its period, its balance of ones and zeros,
// and its longest run of zeros.
func TestSequences(t *testing.T) {
	for _, c := range []struct{ n, zeros int }{{9, 8}, {15, 15}, {23, 23}} {
		s, err := New(c.n)
		if err != nil {
			t.Fatal(err)
		}
		period := 1<<c.n - 1
		start, ones, run, longest := s.state, 0, 0, 0
		for i := range 2 * period {
			b := s.bit()
			if i < period {
				ones += int(b)
			}
			if run++; b == 1 {
				run = 0
			}
			longest = max(longest, run)
			if i == period-1 && s.state != start || i < period-1 && s.state == start {
				t.Fatalf("2^%d-1 comes back after %d bits", c.n, i+1)
			}
		}
		want := (period + 1) / 2
		if c.n > 9 { // inverted
			want = (period - 1) / 2
		}
		if ones != want || longest != c.zeros {
			t.Errorf("2^%d-1: %d ones, want %d; %d zeros in a row, want %d", c.n, ones, want, longest, c.zeros)
		}
	}
	if _, err := New(7); err == nil {
		t.Error("took 7")
	}
}
