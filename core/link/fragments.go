package link

import "uparrot/core/link/frame"

// Harm is how a lost frame came, if it did; "" if nothing of it is known to have come.
type Harm string

// What can have become of a lost frame.
const (
	Damaged Harm = "damaged" // as long as it was, or longer, with bytes altered
	Cut     Harm = "cut"     // a part of it, or in pieces
	Merged  Harm = "merged"  // run together with another one
)

// Harms counts lost frames by how they came.
type Harms struct {
	Damaged int `json:"damaged"`
	Cut     int `json:"cut"`
	Merged  int `json:"merged"`
}

func (h *Harms) add(what Harm) {
	switch what {
	case Damaged:
		h.Damaged++
	case Cut:
		h.Cut++
	case Merged:
		h.Merged++
	}
}

// Harmed is how many lost frames came in some way.
func (h Harms) Harmed() int { return h.Damaged + h.Cut + h.Merged }

// So many frames that have not come are compared with bytes that are no frame, of so many
// bytes together: enough for what is on its way, and little enough work for a noisy line.
const (
	fewestOpen = 8
	mostOpen   = 128
	mostBytes  = 16 << 10
)

// leastAlike is what bytes must have in common with a frame that they are taken for.
const leastAlike = 0.45

// fragment takes in size bytes that are no whole frame, of which b are kept: what is left
// of frames that have not come, or else somebody else's.
func (e *end) fragment(b []byte, size int) {
	if e.counts == nil {
		return // nothing is expected at this end
	}
	open := e.counts.open(max(fewestOpen, min(mostOpen, mostBytes/e.test.Size)))
	images := map[uint64][]byte{} // as they were sent, by their numbers
	for _, r := range open {
		images[r.Number] = e.image(r)
	}
	found := e.parts(b, images)
	for number, image := range found {
		switch {
		case len(found) > 1:
			e.counts.harmed(number, Merged)
		case size < len(image):
			e.counts.harmed(number, Cut)
		default:
			e.counts.harmed(number, Damaged)
		}
	}
	if len(found) == 0 {
		e.counts.gotForeign(size)
	}
}

// parts are the frames of which bytes are what is left. Images are those that one may look
// for, by their numbers; more are added.
func (e *end) parts(b []byte, images map[uint64][]byte) map[uint64][]byte {
	if number, ok := mostAlike(b, images); ok && len(b) == len(images[number]) {
		return map[uint64][]byte{number: images[number]} // some of its bytes were altered
	}
	found := map[uint64][]byte{}
	for _, h := range e.Heads(b, e.run) {
		r, ok := e.counts.missing(h.Number)
		if !e.expects(h.Way) {
			continue
		}
		if ok {
			images[r.Number] = e.image(r)
			ok = h.Way&frame.Answered != 0 || frame.BeginsLike(b[h.At:], images[r.Number])
		}
		if !ok { // the number itself may have been altered
			r.Number, ok = mostAlike(b[h.At:], images)
		}
		if ok {
			found[r.Number] = images[r.Number]
		}
	}
	for number, image := range images {
		if frame.EndsLike(b, image) { // the head may be gone
			found[number] = image
		}
	}
	return found
}

// image is a frame as its sender has sent it.
func (e *end) image(r Row) []byte {
	f := frame.Stamped{Frame: frame.Frame{Way: e.listenTo, Run: e.run, Number: uint32(r.Number)}, Planned: r.Planned.Sub(e.start).Microseconds(), Sent: r.Sent.Sub(e.start).Microseconds()}
	return e.Image(f, e.test.sizeOf(int(r.Number)))
}

// mostAlike is the frame that bytes have most in common with, if that is enough.
func mostAlike(b []byte, images map[uint64][]byte) (number uint64, ok bool) {
	most := leastAlike
	for n, image := range images {
		if share := frame.Alike(b, image); share > most || share == most && n < number {
			number, most, ok = n, share, true
		}
	}
	return number, ok
}
