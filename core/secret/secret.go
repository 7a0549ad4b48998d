// Package secret keeps values that must not be shown out of text.
package secret

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"sort"
	"strconv"
	"strings"
)

// Hidden stands where a secret was.
const Hidden = "[secret]"

// Mask replaces secrets. The zero value knows none; it is not safe for use by
// several goroutines while Add is called.
type Mask struct {
	forms []string // what to look for, the longest first
}

// Add makes a secret known, also as it stands in quotes, in JSON and as
// hexadecimal digits. An empty one is no secret.
func (m *Mask) Add(s string) {
	if s == "" {
		return
	}
	quoted := strconv.Quote(s)
	m.forms = append(m.forms, s, quoted[1:len(quoted)-1])
	if b, err := json.Marshal(s); err == nil {
		m.forms = append(m.forms, string(b[1:len(b)-1]))
	}
	if len(s) >= shortestHex {
		h := hex.EncodeToString([]byte(s))
		m.forms = append(m.forms, h, strings.ToUpper(h))
	}
	sort.SliceStable(m.forms, func(i, j int) bool { return len(m.forms[i]) > len(m.forms[j]) })
}

// shortestHex keeps the digits of very short secrets from being found in any
// number.
const shortestHex = 4

// Any reports whether there are secrets at all.
func (m *Mask) Any() bool { return len(m.forms) > 0 }

// Hide is text without the secrets.
func (m *Mask) Hide(text string) string {
	for _, f := range m.forms {
		text = strings.ReplaceAll(text, f, Hidden)
	}
	return text
}

// Beginning is how many bytes at the end of b may begin a secret, the rest of
// which is still to come.
func (m *Mask) Beginning(b []byte) int {
	most := 0
	for _, s := range m.forms {
		for n := min(len(s)-1, len(b)); n > most; n-- {
			if strings.HasSuffix(string(b), s[:n]) {
				most = n
			}
		}
	}
	return most
}

// JSON is encoded JSON without the secrets: texts and numbers that hold one are
// replaced, names of members too. What cannot be decoded is replaced whole.
func (m *Mask) JSON(data []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	err := d.Decode(&v)
	if err == nil {
		data, err = json.Marshal(m.value(v))
	}
	if err != nil {
		return []byte(strconv.Quote(Hidden))
	}
	return data
}

func (m *Mask) value(v any) any {
	switch v := v.(type) {
	case string:
		return m.Hide(v)
	case json.Number:
		if text := m.Hide(v.String()); text != v.String() {
			return text
		}
	case []any:
		for i := range v {
			v[i] = m.value(v[i])
		}
	case map[string]any:
		for k := range v {
			val := m.value(v[k])
			if hidden := m.Hide(k); hidden != k {
				delete(v, k)
				k = hidden
			}
			v[k] = val
		}
	}
	return v
}
