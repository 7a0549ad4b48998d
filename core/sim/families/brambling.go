package families

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// brambling is a brake tester with built-in tests, made up for the Larkfell
// cableway. Its commands are lines that end with CR:
//
//	who      "brambling 2.2 brake 3"
//	list     a line "test N NAME" each
//	test N   runs one: "limits LOW..HIGH UNIT", what it asks for, "value V UNIT",
//	         and "test N good" or "test N bad"
//
// Test 2 asks for the lever and waits for a hand, test 5 asks whether the lamp is
// lit and waits for y or n. The limits of test 3 are printed the wrong way round,
// and test 4 fails: the brake of this unit is slow (the setting release, in ms). Anything else is answered
// with "? " and the line.
type brambling struct {
	*sim.Unit
	bench   *sim.Bench
	typed   typed
	release int // ms, and some more by chance
	waiting int // the test that waits for a hand or an answer, 0 if none
	round   int // counts tests, so that an old time limit is dropped
}

const (
	bramblingTakes   = 400 * time.Millisecond
	bramblingPatient = 20 * time.Second
)

var bramblingTests = []struct{ name, limits, unit string }{
	{"supply", "22.0..28.0", "V"}, {"lever", "35..50", "mm"}, {"pressure", "6.5..4.5", "bar"}, {"release", "100..800", "ms"}, {"lamp", "", ""},
}

func newBrambling(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	m := &brambling{Unit: u, bench: b, release: 900}
	for key, v := range u.Settings {
		n, err := strconv.Atoi(v)
		if key != "release" || err != nil || n < 1 || n > 5000 {
			return nil, fmt.Errorf("a Brambling has the setting release, 1 to 5000 ms, not %s = %s", key, v)
		}
		m.release = n
	}
	return m, nil
}

func (m *brambling) Power(time.Time, bool) { m.typed, m.waiting = typed{}, 0 }

func (m *brambling) print(at time.Time, format string, args ...any) {
	m.Say(at, fmt.Sprintf(format, args...)+"\r\n")
}

func (m *brambling) Heard(at time.Time, b []byte) {
	for _, c := range b {
		line, over := m.typed.take(c)
		if !over || line == "" {
			continue
		}
		if m.waiting == 5 && (line == "y" || line == "n") {
			m.finish(at, 5, line == "y")
			continue
		}
		m.obey(at, line)
	}
}

func (m *brambling) obey(at time.Time, line string) {
	n := 0
	switch {
	case m.waiting > 0:
		m.print(at, "busy with test %d", m.waiting)
	case line == "who":
		m.print(at, "brambling 2.2 brake 3")
	case line == "list":
		for i, t := range bramblingTests {
			m.print(at, "test %d %s", i+1, t.name)
		}
	case strings.HasPrefix(line, "test ") && scanned(line[5:], &n) && n >= 1 && n <= len(bramblingTests):
		m.test(at, n)
	default:
		m.print(at, "? %s", line)
	}
}

func scanned(text string, n *int) bool {
	_, err := fmt.Sscanf(text, "%d", n)
	return err == nil
}

func (m *brambling) test(at time.Time, n int) {
	m.round++
	round := m.round
	t := bramblingTests[n-1]
	if t.limits != "" {
		m.print(at, "limits %s %s", t.limits, t.unit)
	}
	release := m.release + m.bench.Noise.IntN(60)
	value := map[int]string{1: fmt.Sprintf("%.1f", 23.6+float64(m.bench.Noise.IntN(9))/10), 3: "5.2", 4: fmt.Sprint(release)}
	switch n {
	case 2, 5:
		m.print(at, "%s", map[int]string{2: "pull the lever", 5: "is the lamp lit? y or n"}[n])
		m.waiting = n
		m.bench.Later(m.Unit, at.Add(bramblingPatient), func(at time.Time) {
			if m.waiting == n && m.round == round {
				m.print(at, "nobody did")
				m.finish(at, n, false)
			}
		})
	default:
		m.bench.Later(m.Unit, at.Add(bramblingTakes), func(at time.Time) {
			m.print(at, "value %s %s", value[n], t.unit)
			m.finish(at, n, n != 4 || release <= 800)
		})
	}
}

func (m *brambling) finish(at time.Time, n int, good bool) {
	m.waiting = 0
	m.print(at, "test %d %s", n, map[bool]string{true: "good", false: "bad"}[good])
}

func (m *brambling) Hand(at time.Time, words []string) error {
	if len(words) != 1 || words[0] != "lever" {
		return errors.New("a Brambling has a lever: lever")
	}
	if m.waiting == 2 {
		m.print(at, "value %d mm", 40+m.bench.Noise.IntN(4))
		m.finish(at, 2, true)
	}
	return nil
}
