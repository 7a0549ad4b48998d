package perform

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/secret"
)

// book is a phrasebook with packets of every kind.
const book = `family = "F"
dialect = "bytes"
[line]
ending = "none"
[[packet]]
name = "ask"
bytes = "{hex 5A}{to:u8}{length:u16}{body:bytes(length)}{crc:u16le}"
made = { crc = "crc16(before, \"v.41\")" }
[[packet]]
name = "fix"
bytes = "{hex A5}{channel:u8}{now:i16le}{sum:u8}"
made = { sum = "sum8(before)" }
`

// A packet is said with what it is made of, and heard only as it must come. Each module
// says what stands there after 10 ms.
func TestPackets(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f.toml")
	if err := os.WriteFile(path, []byte(book), 0o600); err != nil {
		t.Fatal(err)
	}
	good, other, wrong := "\xa5\x02\xfe\xff\xa4", "\xa5\x01\x10\x00\xb6", "\xa5\x02\xfe\xff\xa5"
	for _, c := range []struct{ name, body, came, said, want string }{
		{"said", `say packet a: ask(to = 3, body = "ab" + char(0xFF))`, "", "\x5a\x03\x00\x03ab\xff\x06\x93", "passed"},
		{"nothing in it", `say packet a: ask(to = 3, body = "")`, "", "\x5a\x03\x00\x00\xc0\x44", "passed"},
		{"too great", `say packet a: ask(to = 256, body = "")`, "", "", "failed line 5: the packet ask cannot be made: to: 256 does not fit into u8"},
		{"heard", "hear packet a: fix\ncheck channel == 2 && now == -2 && sum == 0xA4", good, "", "passed"},
		{"in pieces, behind others", "hear packet a: fix(channel = 2)\ncheck now == -2", "xx" + other + good, "", "passed"},
		{"the sum is wrong", "hear packet a: fix", wrong, "", "failed line 5: check sum == sum8(before) is false: sum is 165 (0xA5), sum8(before) is 164 (0xA4): as the phrasebook makes the packet fix"},
		{"the sum is wrong in a case", "any\ncase hear a: nothing of it\ncase hear packet a: fix\n pause 1ms\nend", wrong, "", "failed line 7: check sum"},
		{"the sum is wrong in an all", "all\n hear packet a: fix\nend", wrong, "", "failed line 6: check sum"},
		{"another field", "hear packet a within 1s: fix(channel = 3)", good, "", "failed line 5: a: wanted packet fix(channel = 3), heard A5 02 FE FF A4  ..... within 1s"},
		{"none may come", "not hear packet a for 1s: fix", good, "", "failed line 5: "},
		{"none comes", "not hear packet a for 1s: fix(channel = 1)", good, "", "passed"},
		{"a sum that is wrong among others", "hear packet a: ask\ncheck to == 3 && body == \"ab\" && length == 2", "\x5a\x03\x00\x02ab\x5c\x1e", "", "failed line 5: check crc"},
		{"its end does not come", "hear packet a within 1s: ask", "\x5a\x03\x00\x09ab", "", "failed line 5: a: wanted packet ask, heard 5A 03 00 09 61 62"},
		{"a number in a packet is secret", `say packet a: ask(to = 3, body = code)`, "", "\x5a\x03\x00\x07gr4nite\x84\x82", "passed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := set(t, "procedure \"T\"\nport a: phrasebook \""+path+"\"\nsecret code\nstep \"s\"\n"+c.body+"\nend\n", map[string]any{"code": "gr4nite"})
				for i := range c.came {
					s.after(10*time.Millisecond+time.Duration(i)*time.Microsecond, "a", c.came[i:i+1])
				}
				var said bytes.Buffer
				go io.Copy(&said, s.module["a"])
				got := s.play(t.Context())
				synctest.Wait()
				if !strings.HasPrefix(got, c.want) {
					t.Errorf("got %s, want %s", got, c.want)
				}
				if c.said != "" && said.String() != c.said {
					t.Errorf("said %x, want %x", said.String(), c.said)
				}
				if strings.Contains(s.record.String(), "gr4nite") || strings.Contains(s.record.String(), "6772346e697465") {
					t.Errorf("the record tells a secret: %s, wanted %s", s.record.String(), secret.Hidden)
				}
			})
		})
	}
}

// A packet that did not come is told with those that did, cut where the line was silent,
// and without advice for lines.
func TestPacketsInPlace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "f.toml")
	if err := os.WriteFile(path, []byte(book), 0o600); err != nil {
		t.Fatal(err)
	}
	synctest.Test(t, func(t *testing.T) {
		s := set(t, "procedure \"T\"\nport a: phrasebook \""+path+"\"\nsecret code\nstep \"s\"\nhear packet a within 1s: fix\nend\n", map[string]any{"code": "gr4nite"})
		s.after(10*time.Millisecond, "a", "\xa6\x01\xff")
		s.after(25*time.Millisecond, "a", "\xfe")
		s.after(60*time.Millisecond, "a", "gr4nite")
		res := s.Do(t.Context())
		s.module["a"].Close()
		m, ok := errors.AsType[*dialog.Missed](res.Steps[0].Err)
		if !ok || len(m.Packets) != 2 || m.Packets[0] != "\xa6\x01\xff\xfe" || m.Packets[1] != secret.Hidden || !strings.Contains(Advice(m, 0), "hold them beside the guide") {
			t.Errorf("%v: %q", res.Steps[0].Err, m)
		}
	})
}
