package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"uparrot/core/text"
)

func TestHide(t *testing.T) {
	var m Mask
	if m.Any() || m.Hide("x") != "x" {
		t.Error("hides without a secret")
	}
	m.Add("")
	m.Add("pa\"ss\n1")
	m.Add("1234")
	m.Add("12345678")
	m.Add("  snow line \r\n")
	m.Add("-- KEY --\nMIIEpAIBAAK\nCAQEAxyz12\nab\n-- END --")
	for text, want := range map[string]string{
		"nothing":                        "nothing",
		"a pa\"ss\n1 b":                  "a [secret] b",
		`"pa\"ss\n1"`:                    `"[secret]"`,
		"70612273730a31":                 "[secret]",
		"PIN 12345678":                   "PIN [secret]", // the longer one first
		"1234":                           "[secret]",
		"31323334 is hex of it":          "[secret] is hex of it",
		"> snow line":                    "> [secret]",
		"SNOW LINE":                      "[secret]",
		"snow+line, snow%20line":         "[secret], [secret]",
		"MIIEpAIBAAK\r\nab":              "[secret]\r\nab",
		"12 34":                          "12 34",
		"31:32:33:34":                    "[secret]",
		"31,32,33,34":                    "[secret]",
		"31-32-33-34":                    "[secret]",
		"0x31 0x32 0x33 0x34":            "0x[secret]",
		"{0x31, 0x32,0x33}":              "{0x31, 0x32,0x33}",
		"{0x31,0x32,0x33,0x34}":          "{0x[secret]}",
		"{0X31, 0X32, 0X33, 0X34, 0X35}": "{0X[secret], 0X35}",
		`\x31\x32\x33\x34`:               `\x[secret]`,
		"b3BzOnNub3cgbGluZTox":           "b3BzOn[secret]Tox",     // of ops:snow line:1
		"eG9wczpzbm93IGxpbmU6MQ==":       "eG9wczp[secret]U6MQ==", // of xops:snow line:1
		"eHhvcHM6c25vdyBsaW5l":           "eHhvcHM6[secret]",      // of xxops:snow line
	} {
		if got := m.Hide(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// A short secret spoils nothing: it is hidden where it is said.
func TestShort(t *testing.T) {
	var m Mask
	m.Add("12")
	m.Add("e")
	for _, text := range []string{"12.47 V", "passed", `{"key":12,"e":"12"}`} {
		if got := m.Hide(text); got != text {
			t.Errorf("%q became %q", text, got)
		}
	}
	if got, n := m.HideSaid("PIN=12"); got != "PIN=[secret]" || n != 1 {
		t.Errorf("%q, %d", got, n)
	}
	if got := string(m.JSON([]byte(`{"value":12.47,"unit":"V"}`))); got != `{"unit":"V","value":12.47}` {
		t.Error(got)
	}
}

// Encoded JSON stays JSON, whatever the secret is made of, and keeps its names and
// numbers.
func TestJSON(t *testing.T) {
	for _, s := range []string{`"`, `":`, "{", "1", "true", "e", "\\", "key", "value", "1213", `text"`, "true text"} {
		var m Mask
		m.Add(s)
		out := m.JSON([]byte(`{"value": "a true text\" and \\ {", "n": 1213, "list": [1, true, null, "value"]}`))
		var v map[string]any
		if err := json.Unmarshal(out, &v); err != nil || v["n"] != 1213.0 || v["value"] == nil || len(v) != 3 {
			t.Errorf("%q: %s: %v", s, out, err)
		}
		if text, ok := v["value"].(string); len(s) >= Shortest && ok && strings.Contains(text, s) {
			t.Errorf("%q is in %s", s, out)
		}
	}
	var m Mask
	m.Add("xxxx")
	if got := string(m.JSON([]byte("{broken"))); got != `"[secret]"` {
		t.Error(got)
	}
}

func TestBeginning(t *testing.T) {
	var m Mask
	m.Add("secret")
	for text, want := range map[string]int{"": 0, "abx": 0, "abxs": 1, "sec": 3, "secre": 5, "secret": 0, "ssec": 3, "se\x1b[": 4, "se\r\n": 4} {
		if got := m.Beginning([]byte(text)); got != want {
			t.Errorf("%q: %d, want %d", text, got, want)
		}
	}
}

// habits are the ways in which a machine shows a secret again.
var habits = []func(dice *rand.Rand, s string) string{
	func(_ *rand.Rand, s string) string { return s },
	func(_ *rand.Rand, s string) string { return strings.ToUpper(s) },
	func(_ *rand.Rand, s string) string { return strings.ToLower(s) },
	func(_ *rand.Rand, s string) string { return hex.EncodeToString([]byte(s)) },
	func(_ *rand.Rand, s string) string { return strings.ToUpper(fmt.Sprintf("% x", s)) },
	func(_ *rand.Rand, s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	func(_ *rand.Rand, s string) string { return base64.URLEncoding.EncodeToString([]byte(s)) },
	func(dice *rand.Rand, s string) string {
		return base64.StdEncoding.EncodeToString([]byte(strings.Repeat("o", dice.IntN(6)) + ":" + s + "\n"))
	},
	func(dice *rand.Rand, s string) string {
		between := []string{":", "-", ",", ", ", " 0x", ",0x", ", 0x", `\x`, "%"}[dice.IntN(9)]
		return strings.ReplaceAll(fmt.Sprintf("% x", s), " ", between)
	},
	func(_ *rand.Rand, s string) string { return url.QueryEscape(s) },
	func(_ *rand.Rand, s string) string { return strconv.Quote(s) },
	func(_ *rand.Rand, s string) string { b, _ := json.Marshal(s); return string(b) },
	func(dice *rand.Rand, s string) string { return amid(dice, s, "\r\n") },
	func(dice *rand.Rand, s string) string { return amid(dice, s, "\x1b[32m") },
	func(dice *rand.Rand, s string) string { return amid(dice, s, "\x1b[K") },
	func(dice *rand.Rand, s string) string { return amid(dice, s, "x\b \b") },
	func(dice *rand.Rand, s string) string { return amid(dice, amid(dice, s, "\r"), "\x1b[0m") },
}

func amid(dice *rand.Rand, s, what string) string {
	at := 1 + dice.IntN(len(s)-1)
	return s[:at] + what + s[at:]
}

// Random secrets, in every habit, in pieces as they come: none of them is left, and what
// stood round it is.
func TestRandomSecrets(t *testing.T) {
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&*+,-./:;<=>?@^_|~\"\\ "
	for seed := range uint64(500) {
		dice := rand.New(rand.NewPCG(seed, 3))
		var b strings.Builder
		for range Shortest + dice.IntN(30) {
			b.WriteByte(letters[dice.IntN(len(letters))])
		}
		s := strings.TrimSpace(b.String())
		if len(s) < Shortest+1 {
			continue
		}
		var m Mask
		m.Add(s)
		for i, habit := range habits {
			shown := habit(dice, s)
			rest := "login: \x01" + shown + "\x01\r\nwelcome ops"
			got, held := "", ""
			for rest != "" { // as a record takes it
				n := min(len(rest), 1+dice.IntN(7))
				piece := m.Hide(held + rest[:n])
				rest = rest[n:]
				k := m.Beginning([]byte(piece))
				got, held = got+piece[:len(piece)-k], piece[len(piece)-k:]
			}
			got += held
			bare := strings.ToLower(string(text.Plain([]byte(strings.NewReplacer("\r", "", "\n", "", "x\b \b", "").Replace(got)))))
			for _, form := range append([]string{s}, encodings(s)...) {
				if strings.Contains(bare, strings.ToLower(form)) {
					t.Fatalf("seed %d, habit %d: %q is left of %q in %q", seed, i, form, shown, got)
				}
			}
			if !strings.HasPrefix(got, "login: \x01") || !strings.HasSuffix(got, "\x01\r\nwelcome ops") || !strings.Contains(got, Hidden) {
				t.Fatalf("seed %d, habit %d: %q became %q", seed, i, shown, got)
			}
		}
	}
}

func FuzzMask(f *testing.F) {
	f.Add("snowline", "code: snow\x1b[1mline\r\n")
	f.Add("pa\"ss\n1", `"pa\"ss\n1"`)
	f.Add("sn0w", "sn0w\b") // its last byte is about to be taken back
	f.Add("sn0w", "s\bsn\bn0\b0w\bw")
	f.Fuzz(func(t *testing.T, s, shown string) {
		var m Mask
		m.Add(s)
		got := m.Hide(shown)
		for part := range strings.SplitSeq(got, Hidden) {
			if len(strings.TrimSpace(s)) >= Shortest && strings.Contains(part, s) {
				t.Errorf("%q is in %q", s, got)
			}
		}
		if n := m.Beginning([]byte(shown)); n < 0 || n > len(shown) {
			t.Errorf("%d of %d bytes", n, len(shown))
		}
	})
}
