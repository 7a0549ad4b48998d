package chart

import (
	"strings"
	"time"
)

// steps are the distances of ticks of an axis of time.
var steps = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour, 28 * 24 * time.Hour, 91 * 24 * time.Hour, 182 * 24 * time.Hour, 364 * 24 * time.Hour}

// mostClockTicks is how many ticks an axis of time has at most: their labels are long.
const mostClockTicks = 9

// Clock makes ticks at round times of day, in the zone of start, of an axis that counts
// seconds from start.
func Clock(start time.Time) func(low, high float64) []Tick {
	return func(low, high float64) []Tick {
		step := time.Duration(0)
		for _, s := range steps {
			if step = s; (high-low)/s.Seconds() < mostClockTicks {
				break
			}
		}
		if high-low < 3 {
			return subSeconds(start, low, high)
		}
		midnight := time.Date(start.Year(), start.Month(), start.Day(), 0, 0, 0, 0, start.Location())
		from := start.Add(time.Duration(low * float64(time.Second)))
		at := midnight.Add(from.Sub(midnight).Truncate(step))
		var ticks []Tick
		day := start.YearDay()
		for ; len(ticks) < 2*mostClockTicks; at = at.Add(step) {
			x := at.Sub(start).Seconds()
			if x > high {
				break
			}
			if x < low {
				continue
			}
			form := "15:04"
			switch {
			case step >= 24*time.Hour:
				form = "2 Jan"
				if high-low > 300*24*3600 {
					form = "2 Jan 2006"
				}
			case at.YearDay() != day:
				form = "2 Jan 15:04"
			case step < time.Minute:
				form = "15:04:05"
			}
			day = at.YearDay()
			ticks = append(ticks, Tick{x, at.Format(form)})
		}
		return ticks
	}
}

// subSeconds are ticks within few seconds: whole ones by the clock, others by their fraction.
func subSeconds(start time.Time, low, high float64) []Tick {
	step := time.Millisecond
	for _, s := range []time.Duration{time.Millisecond, 2 * time.Millisecond, 5 * time.Millisecond, 10 * time.Millisecond, 20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond} {
		if step = s; (high-low)/s.Seconds() < mostClockTicks {
			break
		}
	}
	from := start.Add(time.Duration(low * float64(time.Second)))
	var ticks []Tick
	for at := from.Truncate(step); len(ticks) < 2*mostClockTicks; at = at.Add(step) {
		x := at.Sub(start).Seconds()
		switch {
		case x > high:
			return ticks
		case x < low:
		case at.Truncate(time.Second).Equal(at):
			ticks = append(ticks, Tick{x, at.Format("15:04:05")})
		default:
			ticks = append(ticks, Tick{x, strings.TrimRight(at.Format(".000"), "0")})
		}
	}
	return ticks
}
