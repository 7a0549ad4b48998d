package secret

import (
	"encoding/json"
	"strings"
	"testing"
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
	for text, want := range map[string]string{
		"nothing":               "nothing",
		"a pa\"ss\n1 b":         "a [secret] b",
		`"pa\"ss\n1"`:           `"[secret]"`,
		"70612273730a31":        "[secret]",
		"PIN 12345678":          "PIN [secret]", // the longer one first
		"1234":                  "[secret]",
		"31323334 is hex of it": "[secret] is hex of it",
	} {
		if got := m.Hide(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// Encoded JSON stays JSON, whatever the secret is made of.
func TestJSON(t *testing.T) {
	for _, s := range []string{`"`, `":`, "{", "1", "true", "e", "\\", "key"} {
		var m Mask
		m.Add(s)
		out := m.JSON([]byte(`{"key": "a true text with \" and \\ {", "n": 1213, "list": [1, true, null, "key"]}`))
		var v map[string]any
		if err := json.Unmarshal(out, &v); err != nil {
			t.Errorf("%q: %s: %v", s, out, err)
		}
		for k, val := range v {
			if text, ok := val.(string); strings.Contains(strings.ReplaceAll(k, Hidden, ""), s) || ok && strings.Contains(strings.ReplaceAll(text, Hidden, ""), s) {
				t.Errorf("%q is in %s", s, out)
			}
		}
	}
	var m Mask
	m.Add("x")
	if got := string(m.JSON([]byte("{broken"))); got != `"[secret]"` {
		t.Error(got)
	}
}

func TestBeginning(t *testing.T) {
	var m Mask
	m.Add("secret")
	for text, want := range map[string]int{"": 0, "abc": 0, "abcs": 1, "sec": 3, "secre": 5, "secret": 0, "ssec": 3} {
		if got := m.Beginning([]byte(text)); got != want {
			t.Errorf("%q: %d, want %d", text, got, want)
		}
	}
}
