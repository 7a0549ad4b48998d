package perform

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/sim/simtest"
)

// A link test within a procedure: its figures are measurements of the step, in percent and milliseconds, held against
// the limits that stand in the statement, and the step is what the test came to.
func TestLinkInProcedure(t *testing.T) {
	lossless, lossy := bench.Air{Seed: 1, Delay: 30 * time.Millisecond}, bench.Air{Seed: 1, Loss: 0.2, Delay: 30 * time.Millisecond}
	for name, c := range map[string]struct {
		air       bench.Air
		statement string
		want      string // the verdict, and of each measurement its name, limit, unit and verdict
	}{
		"no limit":        {lossless, "count 100 every 100ms", "passed; loss valley to summit %  measured; 95th percentile valley to summit ms  measured"},
		"limits kept":     {lossless, "count 100 every 100ms loss <= 5% p95 <= 200ms", "passed; loss valley to summit % ..5 % passed; 95th percentile valley to summit ms ..200 ms passed"},
		"a limit broken":  {lossy, "count 100 every 100ms loss <= 2.5%", "failed; loss valley to summit % ..2.5 % failed; 95th percentile valley to summit ms  measured"},
		"too slow":        {lossless, "count 100 every 100ms p95 <= 20ms", "failed; loss valley to summit %  measured; 95th percentile valley to summit ms ..20 ms failed"},
		"too few to tell": {lossless, "count 10 every 100ms loss <= 5%", "undecided; loss valley to summit % ..5 % undecided; 95th percentile valley to summit ms  measured"},
		"both ways":       {lossless, "count 100 every 100ms both loss <= 5%", "passed; loss valley to summit % ..5 % passed; 95th percentile valley to summit ms  measured; loss summit to valley % ..5 % passed; 95th percentile summit to valley ms  measured"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				_, valley, summit := simtest.Radios(t, c.air, "2")
				proc, err := procedure.Parse("t.parrot", "procedure \"T\"\nport valley\nport summit\nstep \"s\"\nlink valley summit "+c.statement+"\nend\n")
				if err != nil {
					t.Fatal(err)
				}
				var got []string
				var sum link.Summary
				r := Run{Procedure: proc, Stations: map[string]*bench.Station{"valley": valley, "summit": summit}, Sleep: time.Sleep}
				r.Events = record.NewStream(nil, func(e record.Event) {
					switch m, is := e.Value.(record.Measurement); {
					case is:
						got = append(got, fmt.Sprintf("%s %s %s %s", m.What, m.Unit, m.Wanted(), m.Verdict))
						for _, d := range sum.Directions {
							want, way := 100*d.LostOrLate.Ratio, d.From+" to "+d.To
							if strings.HasPrefix(m.What, "95th") {
								want = float64(d.LatencyMS.P95)
							}
							if off := float64(m.Value) - want; strings.HasSuffix(m.What, way) && (off > 0.00051 || off < -0.00051 || strings.HasPrefix(m.What, "95th") && !math.IsInf(want, 1) && (want < 30 || want > 200)) {
								t.Errorf("%s is %v, want %v", m.What, m.Value, want)
							}
						}
					case e.Kind == record.Link:
						text, err := json.Marshal(e.Value)
						if err == nil {
							err = json.Unmarshal(text, &sum)
						}
						if err != nil {
							t.Error(err)
						}
					}
				})
				res := r.Do(context.Background())
				if words := strings.Join(append([]string{string(res.Verdict)}, got...), "; "); words != c.want || len(sum.Directions) == 0 {
					t.Errorf("%s\nwant\n%s\n%+v", words, c.want, res.Steps)
				}
				if why := res.Steps[0].Why; (why == "") != (res.Verdict == "passed") {
					t.Errorf("why: %q", why)
				}
			})
		})
	}
}
