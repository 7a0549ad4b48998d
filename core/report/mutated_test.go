package report

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"testing"
)

// strange is what a field of a foreign record may hold.
var strange = []any{hostile, "", "passed\nverdict: passed", -1, 1e308, -1e-320, nil, []any{}, []any{hostile, 1}, map[string]any{}, map[string]any{hostile: hostile}, true, strings.Repeat("9", 400), "NaN", "2026-13-45T99:99:99Z", "\u061c\u200b\U000e0041"}

// places calls f for each field of a value, with what sets it, in a fixed order.
func places(v any, path string, f func(path string, set func(any) (undo func()))) {
	switch v := v.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			old := v[k]
			f(path+"."+k, func(other any) func() { v[k] = other; return func() { v[k] = old } })
			places(old, path+"."+k, f)
		}
	case []any:
		for i := range v {
			old := v[i]
			f(path+"[]", func(other any) func() { v[i] = other; return func() { v[i] = old } })
			places(old, path+"[]", f)
		}
	}
}

// Whatever stands in any field of a record, every form is made or refused in words, and
// nothing in it can steer a terminal, run in a page or pass for what it is not.
func TestMutatedRecords(t *testing.T) {
	lines := bytes.SplitAfter(bytes.TrimSuffix(larkfell(t), []byte("\n")), []byte("\n"))
	tried, made := 0, 0
	for n, line := range lines {
		var v any
		if err := json.Unmarshal(line, &v); err != nil {
			t.Fatal(err)
		}
		places(v, "", func(path string, set func(any) func()) {
			for i, other := range strange {
				if i > 0 && (n+i+len(path))%7 != 0 { // each field meets the first and some more
					continue
				}
				undo := set(other)
				changed, err := json.Marshal(v)
				undo()
				if err != nil {
					t.Fatal(err)
				}
				rec := bytes.Join(append(append(append([][]byte{}, lines[:n]...), append(changed, '\n')), lines[n+1:]...), nil)
				for _, form := range Forms() {
					tried++
					if checkMutated(t, rec, form, path, other) {
						made++
					}
				}
			}
		})
	}
	if tried < 1000 || made < tried/2 {
		t.Errorf("of %d, %d were made", tried, made)
	}
}

func checkMutated(t *testing.T, rec []byte, form, path string, other any) (made bool) {
	defer func() {
		if fault := recover(); fault != nil {
			t.Errorf("%s of %s = %v: %v", form, path, other, fault)
		}
	}()
	var out bytes.Buffer
	if _, err := View(&out, bytes.NewReader(rec), form, ""); err != nil {
		return false
	}
	if form == "pcapng" {
		return true
	}
	text := out.String()
	for _, r := range text {
		if r < ' ' && r != '\n' && r != '\t' && !(form == "csv" && r == '\r') || r == '\u202e' || r == '\u061c' || r == '\u200b' || r == '\U000e0041' {
			t.Errorf("%s of %s = %v holds %q", form, path, other, r)
			break
		}
	}
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "verdict: passed") || form == "html" && strings.Contains(line, "<script>alert") || form == "csv" && (strings.HasPrefix(line, "=") || strings.Contains(line, ",=")) {
			t.Errorf("%s of %s = %v has the line %q", form, path, other, line)
		}
	}
	return true
}
