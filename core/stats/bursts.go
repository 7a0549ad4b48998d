package stats

// Bursts is how losses stand together, in the order of sending.
type Bursts struct {
	Runs    int     `json:"runs"`    // stretches of frames lost one after the other
	Mean    float64 `json:"mean"`    // frames in one
	Longest int     `json:"longest"` // frames in the longest

	// The two-state model of E. N. Gilbert (Bell System Technical Journal 39,
	// 1960) with all frames lost in its bad state: how likely a received frame is
	// followed by a lost one, and a lost by a received one. Independent losses have
	// Enter + Leave = 1; the smaller the sum, the more they stand together.
	Enter float64 `json:"enter"`
	Leave float64 `json:"leave"`
}

// Runs gathers lost runs frame by frame.
type Runs struct {
	last, any       bool
	now             int
	sum, count      int
	longest         int
	good, bad       int // frames that another followed
	entered, leaves int
	scales          scales
}

// Add takes in the next frame.
func (r *Runs) Add(lost bool) {
	if r.any {
		switch {
		case r.last:
			r.bad++
			if !lost {
				r.leaves++
			}
		default:
			r.good++
			if lost {
				r.entered++
			}
		}
	}
	if lost {
		if r.now++; r.now == 1 {
			r.count++
		}
		r.sum++
		r.longest = max(r.longest, r.now)
	} else {
		r.now = 0
	}
	r.last, r.any = lost, true
	r.scales.add(lost)
}

// Bursts are the runs so far.
func (r *Runs) Bursts() Bursts {
	b := Bursts{Runs: r.count, Longest: r.longest}
	if r.count > 0 {
		b.Mean = Round(float64(r.sum)/float64(r.count), 3)
	}
	if r.good > 0 {
		b.Enter = Round(float64(r.entered)/float64(r.good), 6)
	}
	if r.bad > 0 {
		b.Leave = Round(float64(r.leaves)/float64(r.bad), 6)
	}
	return b
}

// Longest is how many frames are in the longest run so far.
func (r *Runs) Longest() int { return r.longest }

// RunsState is all that Runs knows, to be kept and gone on from.
type RunsState struct {
	Counts   [7]int // now, sum, count, longest, good, bad, entered
	Leaves   int
	LastLost bool
	Scales   []scale // those that were begun; none in what earlier versions have kept
}

// State is what is known so far.
func (r *Runs) State() RunsState {
	begun := 0
	for begun < len(r.scales) && (r.scales[begun].Blocks > 0 || r.scales[begun].Filled) {
		begun++
	}
	return RunsState{[7]int{r.now, r.sum, r.count, r.longest, r.good, r.bad, r.entered}, r.leaves, r.last, append([]scale{}, r.scales[:begun]...)}
}

// RunsFrom goes on from a state; any says whether there was a frame at all.
func RunsFrom(s RunsState, any bool) Runs {
	c := s.Counts
	r := Runs{now: c[0], sum: c[1], count: c[2], longest: c[3], good: c[4], bad: c[5], entered: c[6], leaves: s.Leaves, last: s.LastLost, any: any}
	copy(r.scales[:], s.Scales)
	return r
}
