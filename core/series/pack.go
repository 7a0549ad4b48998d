package series

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"time"
)

// The forms of packed samples, in their first byte: numbers with so many decimals, or bits as
// they are, or texts.
const (
	packedBits  = 0xfe
	packedTexts = 0xff
	mostPlaces  = 9
)

// Pack puts samples of numbers into few bytes. Times are kept to the microsecond, values
// exactly. The form: a byte tells how many decimals all values have, 0 to 9, or FE; then for
// each sample the change of the time since the one before, less the change before that, in
// microseconds, and the change of the value: of whole numbers of the last decimal, or with FE
// the bits of both values combined by exclusive or, reversed. Whole numbers are written in
// seven bits a byte, the lowest first, negative ones by zigzag (as encoding/binary does).
func Pack(samples []Sample) []byte {
	places := placesOf(samples)
	out := make([]byte, 1, 1+4*len(samples))
	out[0] = packedBits
	if places >= 0 {
		out[0] = byte(places)
	}
	scale := math.Pow10(max(places, 0))
	before, step, value, image := int64(0), int64(0), int64(0), uint64(0)
	for _, s := range samples {
		at := s.At.UnixMicro()
		out = binary.AppendVarint(out, at-before-step)
		before, step = at, at-before
		if places >= 0 {
			v := int64(math.Round(s.Value * scale))
			out = binary.AppendVarint(out, v-value)
			value = v
			continue
		}
		b := math.Float64bits(s.Value)
		out = binary.AppendUvarint(out, bits.Reverse64(b^image))
		image = b
	}
	return out
}

// placesOf is how many decimals all values have, at most; -1 if some are no decimals that a
// number holds exactly.
func placesOf(samples []Sample) int {
	places := 0
	for _, s := range samples {
		for {
			scale := math.Pow10(places)
			whole := math.Round(s.Value * scale)
			if math.Abs(whole) < 1<<52 && whole/scale == s.Value && !(whole == 0 && math.Signbit(s.Value)) {
				break
			}
			if places++; places > mostPlaces {
				return -1
			}
		}
	}
	return places
}

// textSample is a sample of texts as it is packed.
type textSample struct {
	US   int64  `json:"us"`
	Text string `json:"text"`
}

// PackTexts puts samples of texts into bytes.
func PackTexts(at []time.Time, texts []string) []byte {
	list := make([]textSample, len(texts))
	for i := range texts {
		list[i] = textSample{at[i].UnixMicro(), texts[i]}
	}
	b, _ := json.Marshal(list) // texts and numbers alone
	return append([]byte{packedTexts}, b...)
}

var errCut = errors.New("packed samples are cut short")

// Unpack hands out packed samples: of a number with no text, of a text with a value that is
// not a number.
func Unpack(b []byte, each func(s Sample, text *string) error) error {
	if len(b) == 0 {
		return errCut
	}
	form, b := b[0], b[1:]
	if form == packedTexts {
		var list []textSample
		if err := json.Unmarshal(b, &list); err != nil {
			return fmt.Errorf("read packed texts: %w", err)
		}
		for _, t := range list {
			if err := each(Sample{time.UnixMicro(t.US).UTC(), math.NaN()}, &t.Text); err != nil {
				return err
			}
		}
		return nil
	}
	if form > mostPlaces && form != packedBits {
		return fmt.Errorf("samples are packed in a form that is not known, %d", form)
	}
	scale := math.Pow10(int(min(form, mostPlaces)))
	at, step, value, image := int64(0), int64(0), int64(0), uint64(0)
	for len(b) > 0 {
		d, n := binary.Varint(b)
		if n <= 0 {
			return errCut
		}
		b = b[n:]
		step += d
		at += step
		s := Sample{At: time.UnixMicro(at).UTC()}
		if form == packedBits {
			r, n := binary.Uvarint(b)
			if n <= 0 {
				return errCut
			}
			b = b[n:]
			image ^= bits.Reverse64(r)
			s.Value = math.Float64frombits(image)
		} else {
			d, n := binary.Varint(b)
			if n <= 0 {
				return errCut
			}
			b = b[n:]
			value += d
			s.Value = float64(value) / scale
		}
		if err := each(s, nil); err != nil {
			return err
		}
	}
	return nil
}
