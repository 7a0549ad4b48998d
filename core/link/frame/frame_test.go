package frame

import (
	"bytes"
	"testing"
	"time"
)

func TestFrame(t *testing.T) {
	for _, size := range []int{MinSize, 17, 24, 96, 300} {
		f := Frame{Way: 1, Run: 0xabcdef, Number: 123456}
		b := f.Append(nil, size)
		got, err := Decode(b)
		if err != nil || got != f || len(b) != size {
			t.Errorf("size %d: %s is %+v, %v", size, b, got, err)
		}
		for i := range b { // every change of one byte is found
			for bit := range 8 {
				b[i] ^= 1 << bit
				if got, err := Decode(b); err == nil {
					t.Errorf("%s passed as %+v", b, got)
				}
				b[i] ^= 1 << bit
			}
		}
		for _, other := range [][]byte{b[1:], b[:len(b)-1], append([]byte("x"), b...), append(append([]byte{}, b...), 'x'), nil} {
			if _, err := Decode(other); err == nil {
				t.Errorf("%q passed", other)
			}
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Frame{Run: 7, Number: 9}.Append(nil, 24))
	f.Fuzz(func(t *testing.T, b []byte) {
		if got, err := Decode(b); err == nil && string(got.Append(nil, len(b))[:8]) != string(b[:8]) {
			t.Errorf("%q is read as %+v, which is written otherwise", b, got)
		}
		for _, c := range []Carriage{{}, {Binary: true}} { // remains of any kind
			for _, h := range c.Heads(b, 7) {
				if image := c.Image(Stamped{Frame: h.Frame}, 40); h.Run != 7 || len(c.Heads(image, 7)) == 0 {
					t.Errorf("%q holds the head %+v, which is written otherwise", b, h)
				}
			}
		}
	})
}

// FuzzStream: whatever comes between frames, no count is ever wrong. Whole frames
// arrive as often as they were sent, except those that the noise itself touches.
func FuzzStream(f *testing.F) {
	f.Add([]byte("login: \r\n"), 3, uint8(0))
	f.Add(Stamped{Frame: Frame{Run: 9, Number: 4}}.Append(nil, 40), 2, uint8(7))
	f.Add(Stamped{Frame: Frame{Run: 7, Number: 1}}.Append(nil, 40)[:20], 1, uint8(30))
	f.Add([]byte{0, 0, 1, 0, 255, 0}, 0, uint8(1))
	f.Fuzz(func(t *testing.T, noise []byte, where int, cut uint8) {
		const run, count = 7, 6
		var stream []byte
		for i := range count {
			frame := Stamped{Frame: Frame{Run: run, Number: uint32(i)}, Sent: int64(i)}.Append(nil, 40)
			if i == where {
				stream = append(stream, noise...)
			}
			stream = append(stream, frame...)
		}
		seen := map[uint32]int{}
		size := 0
		d := &Decoder{Broken: func(_ []byte, n int) { size += n }, Whole: func(_ time.Time, f Stamped, n int) {
			size += n
			if f.Run == run {
				seen[f.Number]++
			}
		}}
		for step := int(cut)%50 + 1; len(stream) > 0; { // reads of whatever size
			n := min(step, len(stream))
			d.Feed(time.Time{}, stream[:n])
			stream = stream[n:]
		}
		d.Flush()
		for i := range uint32(count) {
			if seen[i] == 0 {
				t.Fatalf("frame %d is missing after %q", i, noise)
			}
			delete(seen, i)
		}
		for n := range seen { // only what the noise itself holds whole
			f := Stamped{Frame: Frame{Run: run, Number: n}}
			if !bytes.Contains(noise, f.Append(nil, 40)[1:10]) {
				t.Fatalf("frame %d was never sent: %q", n, noise)
			}
		}
	})
}

func TestBinaryFrames(t *testing.T) {
	for size := MinBinary; size < 1200; size += 7 {
		f := Stamped{Frame: Frame{Way: 1, Run: 0xabcdef, Number: uint32(size) << 8}, Planned: 1 << 40, Sent: 256, FarCame: 3, FarWent: 1<<47 + 5}
		wire := f.Append(nil, size)
		if wire[0] != 0 || bytes.IndexByte(wire[1:len(wire)-1], 0) >= 0 || wire[len(wire)-1] != 0 || len(wire) > Wire(size)+1 {
			t.Fatalf("size %d: %x", size, wire)
		}
		got, n, err := decodeBinary(wire[1 : len(wire)-1])
		if err != nil || got != f || n != size {
			t.Fatalf("size %d: %+v, %v", size, got, err)
		}
		for i := 1; i < len(wire)-1; i += 5 { // one bit wrong anywhere
			wire[i] ^= 4
			if _, _, err := decodeBinary(wire[1 : len(wire)-1]); err == nil {
				t.Fatalf("size %d: damage at %d was not seen", size, i)
			}
			wire[i] ^= 4
		}
	}
	text := Frame{Run: 3, Number: 8}.AppendAnswered(nil, 40, 1234567, 7654321)
	if f, err := Decode(text); err != nil || f.Number != 8 {
		t.Error(f, err)
	}
	if came, went := FarTimes(text); came != 1234567 || went != 7654321 {
		t.Error(came, went)
	}
}
