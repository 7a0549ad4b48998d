package link

import (
	"errors"
	"fmt"
	"time"

	"uparrot/core/bench"
	"uparrot/core/link/frame"
	"uparrot/core/stats"
)

// Plan says how a link is to be tested.
type Plan struct {
	Count    int           // frames in each direction, at least 1
	Every    time.Duration // from one frame to the next
	Load     float64       // share of the first end's wire that frames are to take; Every follows from it
	Size     int           // bytes in a frame; 0 chooses DefaultSize, or MinBinary through a transparent link
	Sizes    []int         // several sizes, taken in turn; Size is then the greatest
	Both     bool          // also from the second end to the first, at the same time
	AirRate  float64       // bits a second in the air, where that is known, for Warnings; 0 is not known
	Preamble time.Duration // before each frame in the air, for Warnings
	Window   int           // frames that may be on their way at once; 0 is no limit
	To       string        // for a round trip: the far end's address, where the carrier needs one
	Deadline time.Duration // later frames are late; so long the end waits for stragglers
	Limits   Limits
	Sure     bool          // stop as soon as the limits are decided; Count is then the most
	MaxTime  time.Duration // stop then in any case; 0 is no limit
	Seed     uint64        // of the run's number; 0 draws one
	Drain    bool          // begin once frames of earlier tests have ceased to come
}

// Check says what is wrong with the plan before a port is opened, and settles the
// size of frames where the plan leaves it open.
func (t *Test) Check() error {
	least := frame.MinSize
	for _, s := range t.ends() {
		least = max(least, carriage(s).Least())
	}
	if t.B == nil && carriage(t.A).Carrier != nil { // else the far end's own time would count as the link's
		least = max(least, frame.MinAnswered)
	}
	for _, size := range t.Sizes {
		if size < least {
			return fmt.Errorf("a frame of %d bytes is too short: the least is %d%s", size, least, t.whyLeast())
		}
		t.Size = max(t.Size, size)
	}
	if len(t.Sizes) > 0 && t.Resume != nil {
		return errors.New("a test of several sizes cannot go on from a checkpoint")
	}
	if t.Size == 0 {
		t.Size = max(least, DefaultSize)
	}
	for _, s := range t.ends() {
		c := carriage(s).Carrier
		if c == nil {
			continue
		}
		if t.Size > c.Greatest {
			return fmt.Errorf("a frame of %d bytes is too long for %s: its carrier takes %d at most", t.Size, s.Name, c.Greatest)
		}
		for i := range len(frame.Alphabet) {
			if !c.Allowed.Has(frame.Alphabet[i]) {
				return fmt.Errorf("the carrier of %s does not allow %q, which test frames need: they are letters, digits, - and _", s.Name, frame.Alphabet[i])
			}
		}
	}
	switch {
	case t.Size < least:
		return fmt.Errorf("a frame of %d bytes is too short: the least is %d%s", t.Size, least, t.whyLeast())
	case t.Size > maxSize:
		return fmt.Errorf("a frame of %d bytes is too long: the most is %d", t.Size, maxSize)
	case t.B == nil && t.Both:
		return errors.New("a round trip goes both ways as it is")
	case t.B == nil && carriage(t.A).Addressed() && t.To == "":
		return fmt.Errorf("%s sends to an address: say which is the far end's", t.A.Name)
	case t.Count < 1:
		return fmt.Errorf("%d frames are too few: send at least one", t.Count)
	case t.Sure && t.Limits.MaxLoss == nil && t.Limits.MaxP95MS == nil:
		return errors.New("there is no limit to be sure of: give --max-loss or --max-p95")
	case t.Load > 0 && !t.A.Address.Serial():
		return fmt.Errorf("%s is in the network and has no line whose load could be chosen: give the interval, such as --every 50ms", t.A.Name)
	case t.Load > 0:
	case t.Every == 0 && t.Window > 0:
	case t.Every <= 0:
		return fmt.Errorf("the interval %v is no interval: give one such as 50ms", t.Every)
	}
	return nil
}

// whyLeast says why a frame of a round trip may not be shorter.
func (t *Test) whyLeast() string {
	if t.B == nil && carriage(t.A).Carrier != nil {
		return ", so that a round trip brings back how long the far end took"
	}
	return ""
}

// DefaultSize is the size of a frame where nothing is said, as far as it is enough.
const DefaultSize = 24

// maxSize is the greatest frame: what the decoder keeps, less its framing.
const maxSize = 4096

// sizeOf is the size of a frame.
func (t *Test) sizeOf(number int) int {
	if len(t.Sizes) == 0 {
		return t.Size
	}
	return t.Sizes[number%len(t.Sizes)]
}

// ends are the stations of the test.
func (t *Test) ends() []*bench.Station {
	if t.B == nil {
		return []*bench.Station{t.A}
	}
	return []*bench.Station{t.A, t.B}
}

// carriage is how frames travel through a port.
func carriage(s *bench.Station) frame.Carriage { return frame.Through(s.Setup, s.Phrasebook) }

// EveryForLoad is the interval at which frames take a share of the first end's
// wire, as far as it is known before the test: the address of the far end, whose
// length counts, is read only then.
func (t *Test) EveryForLoad(share float64) time.Duration {
	return time.Duration(float64(t.A.Setup.Line().Time(t.spoken(t.A))) / share)
}

// Warnings are odd things about the plan that do not keep it from running.
func (t *Test) Warnings() []string {
	w := t.Limits.tooFew(t.Count, t.Sure)
	if near, far := t.A, t.B; far != nil && carriage(near).Carrier == nil && near.Address.Serial() && far.Address.Serial() && near.Setup.Line() != far.Setup.Line() {
		w = append(w, fmt.Sprintf("%s is at %v and %s at %v: over a plain cable nothing whole arrives", near.Name, near.Setup.Line(), far.Name, far.Setup.Line()))
	}
	if t.Every == 0 {
		return w
	}
	cannot := func(what string, needs time.Duration, sum string) {
		if needs > t.Every {
			w = append(w, fmt.Sprintf("%s: a frame takes %v (%s), longer than the interval of %v: frames will be sent later than planned, or pile up", what, needs.Round(time.Microsecond), sum, t.Every))
		}
	}
	for _, s := range t.ends() {
		line := s.Setup.Line()
		cannot("the wire of "+s.Name, line.Time(t.spoken(s)), fmt.Sprintf("%d bytes at %v", t.spoken(s), line))
	}
	if t.AirRate > 0 || t.Preamble > 0 {
		cannot("the air", frame.AirTime(t.Size, t.AirRate, t.Preamble), fmt.Sprintf("preamble of %v and %d bytes at %g bit/s", t.Preamble, t.Size, t.AirRate))
	}
	return w
}

// spoken is how many bytes go out for a frame. An address that nobody has read yet
// is taken to have one character.
func (t *Test) spoken(s *bench.Station) int {
	to := t.To
	if to == "" {
		to = "1"
	}
	return carriage(s).Sent(t.Size, to)
}

// tooFew says where so many frames cannot show that a limit is kept, even if all goes
// well.
func (l Limits) tooFew(count int, sure bool) []string {
	least, how := stats.FramesToPass, "with none lost"
	if sure {
		least, how = stats.FramesToDecide, "looking at each frame, and with none lost,"
	}
	var w []string
	if l.MaxLoss != nil {
		switch n := least(*l.MaxLoss); {
		case n == 0:
			w = append(w, "no number of frames shows that nothing at all is lost: give a limit above 0 %")
		case n > count:
			w = append(w, fmt.Sprintf("%d frames cannot show a loss of at most %s: %s it takes %d", count, stats.Percent(*l.MaxLoss), how, n))
		}
	}
	if n := least(p95Share); l.MaxP95MS != nil && n > count {
		w = append(w, fmt.Sprintf("%d frames cannot show where the 95th percentile is: with none too slow it takes %d", count, n))
	}
	return w
}
