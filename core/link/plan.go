package link

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/station"
)

// Plan says how a link is to be tested.
type Plan struct {
	Count    int           // frames in each direction, at least 1
	Every    time.Duration // from one frame to the next
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
}

// Check says what is wrong with the plan before a port is opened, and settles the
// size of frames where the plan leaves it open.
func (t *Test) Check() error {
	least := MinSize
	for _, s := range t.ends() {
		if transparent(s) {
			least = MinBinary
		}
	}
	for _, size := range t.Sizes {
		if size < least {
			return fmt.Errorf("a frame of %d bytes is too short: the least is %d", size, least)
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
		c := carrierOf(s)
		if c == nil {
			continue
		}
		if t.Size > c.Greatest {
			return fmt.Errorf("a frame of %d bytes is too long for %s: its carrier takes %d at most", t.Size, s.Name, c.Greatest)
		}
		for i := range len(alphabet) {
			if !c.Allows(alphabet[i]) {
				return fmt.Errorf("the carrier of %s does not allow %q, which test frames need: they are letters, digits, - and _", s.Name, alphabet[i])
			}
		}
	}
	switch {
	case t.Size < least:
		return fmt.Errorf("a frame of %d bytes is too short: the least is %d", t.Size, least)
	case t.Size > maxSize:
		return fmt.Errorf("a frame of %d bytes is too long: the most is %d", t.Size, maxSize)
	case t.B == nil && t.Both:
		return errors.New("a round trip goes both ways as it is")
	case t.B == nil && carrierOf(t.A) != nil && strings.Contains(carrierOf(t.A).Send, "{to}") && t.To == "":
		return fmt.Errorf("%s sends to an address: say which is the far end's", t.A.Name)
	case t.Count < 1:
		return fmt.Errorf("%d frames are too few: send at least one", t.Count)
	case t.Sure && t.Limits.MaxLoss == nil && t.Limits.MaxP95MS == nil:
		return errors.New("there is no limit to be sure of: give --max-loss or --max-p95")
	case t.Every == 0 && t.Window > 0:
	case t.Every <= 0:
		return fmt.Errorf("the interval %v is no interval: give one such as 50ms", t.Every)
	}
	return nil
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

// hasSize reports whether frames of a size are sent.
func (t *Test) hasSize(n int) bool {
	return n == t.Size || slices.Contains(t.Sizes, n)
}

// ends are the stations of the test.
func (t *Test) ends() []*station.Station {
	if t.B == nil {
		return []*station.Station{t.A}
	}
	return []*station.Station{t.A, t.B}
}

// transparent reports whether frames go through as they are, in binary: there is
// no carrier, and the line takes all values of a byte.
func transparent(s *station.Station) bool {
	flow, _ := port.ParseFlow(s.Setup.Flow)
	return carrierOf(s) == nil && s.Setup.Line().Frame.Filled().DataBits == 8 && flow != port.XonXoff
}

// errNotTransparent is why something cannot be done at a port.
func errNotTransparent(s *station.Station) error {
	return fmt.Errorf("%s does not take all values of a byte as they are: it needs 8 data bits, no XON/XOFF, and no carrier between", s.Name)
}

// EveryForLoad is the interval at which frames take a share of the first end's
// wire.
func (t *Test) EveryForLoad(share float64) time.Duration {
	return time.Duration(float64(t.A.Setup.Line().Time(t.spoken(t.A))) / share)
}

// Warnings are odd things about the plan that do not keep it from running.
func (t *Test) Warnings() []string {
	var w []string
	if t.Every == 0 {
		return nil
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
		cannot("the air", airTime(t.Size, t.AirRate, t.Preamble), fmt.Sprintf("preamble of %v and %d bytes at %g bit/s", t.Preamble, t.Size, t.AirRate))
	}
	return w
}

// spoken is about how many bytes go out for a frame.
func (t *Test) spoken(s *station.Station) int {
	if transparent(s) {
		return framedSize(t.Size)
	}
	n := t.Size + len(s.Setup.EndingBytes())
	if c := carrierOf(s); c != nil {
		n += len(c.Send) - len("{payload}")
	}
	return n
}

func carrierOf(s *station.Station) *phrasebook.Carrier {
	if s.Phrasebook == nil {
		return nil
	}
	return s.Phrasebook.Carrier
}
