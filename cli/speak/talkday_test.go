package speak

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"charm.land/bubbles/v2/textinput"

	"uparrot/core/phrasebook"
	"uparrot/core/sim/simtest"
	"uparrot/core/talk"
)

// A day of four chattering ports, in simulated time, through the view and what it draws:
// memory is after a day what it was after an hour, and every line that is no longer there
// is counted.
func TestViewForADay(t *testing.T) {
	hours := 24
	if testing.Short() {
		hours = 3
	}
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		v := &screenView{ctx: ctx, input: textinput.New(), echo: true, wide: 160, high: 40, times: 0}
		said := make([]int, 4)
		var modules []io.Closer
		var speaking sync.WaitGroup
		for i := range said {
			setup := phrasebook.Setup{Dialect: phrasebook.Lines}
			if i == 3 {
				setup.Dialect = phrasebook.Bytes
			}
			st, module := simtest.Played(fmt.Sprint("port", i), setup, nil)
			modules = append(modules, module)
			p := newPane(&talk.Talker{Station: st})
			p.Tell = p.pend
			if err := p.Open(ctx); err != nil {
				t.Fatal(err)
			}
			(&talkCommand{}).packets(p)
			v.panes = append(v.panes, p)
			speaking.Go(func() {
				rng := rand.New(rand.NewPCG(uint64(i), 24))
				for n := 0; ctx.Err() == nil; n++ {
					text := fmt.Sprintf("wind %d.%d m/s at %d deg\r\n", rng.IntN(60), rng.IntN(10), rng.IntN(360))
					switch {
					case n%50 == 7:
						text = fmt.Sprintf("event %c%c%c of unit\r\n", 'a'+rng.IntN(26), 'a'+rng.IntN(26), 'a'+rng.IntN(26))
					case n%997 == 3:
						text = strings.Repeat("x", 3000) + "\r\n"
					}
					if _, err := io.WriteString(module, text); err != nil {
						return
					}
					said[i]++
					time.Sleep(300 * time.Millisecond)
				}
			})
		}
		heap := func() int64 {
			var m runtime.MemStats
			runtime.GC()
			runtime.GC()
			runtime.ReadMemStats(&m)
			return int64(m.HeapAlloc)
		}
		var filled int64
		for hour := range hours {
			for range 60 * 12 {
				time.Sleep(5 * time.Second)
				for _, p := range v.panes {
					v.take(p)
				}
			}
			if v.screen() == "" {
				t.Fatal("nothing is drawn")
			}
			if hour == 1 { // by now each log is full
				filled = heap()
			}
		}
		if grown := heap() - filled; grown > 4<<20 {
			t.Errorf("from hour 2 to hour %d memory grew by %d KiB, from %d", hours, grown>>10, filled>>10)
		}
		cancel()
		for _, m := range modules {
			m.Close()
		}
		speaking.Wait()
		synctest.Wait()
		for i, p := range v.panes {
			v.take(p)
			if lines := p.log.Gone + len(p.log.Lines); lines < said[i] || said[i] < hours*3600*3 {
				t.Errorf("%s: said %d times, %d lines in the log", p.name, said[i], lines)
			}
		}
	})
}
