package hearing

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/sim/simtest"
	"uparrot/core/uart"
	"uparrot/core/verdict"
)

// Who hears whom is what group and power say, and is held against the wish.
func TestMap(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, valley, summit := simtest.Radios(t, bench.Air{Delay: 10 * time.Millisecond}, "2")
		m := &Map{Ports: []*bench.Station{valley, summit}, Count: 10, Every: 50 * time.Millisecond, Size: 24, Wait: time.Second,
			Hears: map[string][]string{"valley": {"summit"}, "summit": {}}}
		res, err := m.Do(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(res.Cells); got != "[{valley summit 10 10 hear passed} {summit valley 10 10 not hear failed}]" || res.Verdict != verdict.Failed {
			t.Error(got)
		}
	})
}

// A map needs ports that take frames as they are, or a carrier.
func TestSevenBits(t *testing.T) {
	st, _ := simtest.Played("a", phrasebook.Setup{Frame: &uart.Frame{DataBits: 7}}, nil)
	m := &Map{Ports: []*bench.Station{st, st}, Count: 1, Every: 1, Size: 40}
	if res, err := m.Do(t.Context()); err == nil || !strings.Contains(err.Error(), "needs 8 data bits") || res.Verdict != verdict.Broken {
		t.Errorf("%+v, %v", res, err)
	}
}
