package perform

import (
	"fmt"
	"time"
)

// Elapsed is how long this try of the step has gone on, in seconds.
func (p *performer) Elapsed() float64 { return seconds(time.Since(p.tryBegan)) }

// seconds is a time in seconds, to the microsecond: no finer one is known.
func seconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1e6 }

// Since is how long ago a name got its value, in seconds: what was heard, when its last
// byte was read.
func (p *performer) Since(name string) (float64, error) {
	at, known := p.gaveAt[name]
	if !known {
		return 0, fmt.Errorf("nothing tells when %s got its value: it is an input, or from an earlier run", name)
	}
	return seconds(time.Since(at)), nil
}

// Now is the time of day.
func (p *performer) Now() string { return time.Now().Format("2006-01-02 15:04:05") }

// tookFrom is how long something that came at a port took, in seconds: from the last say
// there in this try of the step on, or from the beginning of that. What came before took no
// time that could be told.
func (p *performer) tookFrom(port string, came time.Time) (float64, error) {
	from, since := p.tryBegan, "this try of the step began"
	if at := p.saidAt[port]; at.After(from) {
		from, since = at, "the last line was said there"
	}
	if came.Before(from) {
		return 0, fmt.Errorf("%s: it came %v before %s: how long it took cannot be told", port, from.Sub(came).Round(time.Microsecond), since)
	}
	return seconds(came.Sub(from)), nil
}

// acts notes that something is done, at a port or, with "", at none: what has come at others since
// something was last heard there is older. A line said moves that at its own port by itself.
func (p *performer) acts(at string) {
	for name, d := range p.dialogs {
		if name != at {
			d.Act(false)
		}
	}
}
