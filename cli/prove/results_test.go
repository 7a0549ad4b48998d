package prove

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/core/ledger"
	"uparrot/core/record"
)

func TestDay(t *testing.T) {
	for text, ok := range map[string]bool{"2026-11-02": true, "36h": true, "": true, "2026-13-01": false, "-3h": false, "soon": false} {
		if _, err := day(text, 0); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	if until, err := day("2026-11-02", 1); err != nil || until.Day() != 3 {
		t.Errorf("%v, %v", until, err)
	}
	if _, err := day("36h", 1); err == nil {
		t.Error("until a length of time")
	}
}

// Both exports hold every value, and neither a formula nor a broken line.
func TestExports(t *testing.T) {
	rows := [][]any{{"run", "began", "why", "took_ms", "low"}, {"ab", int64(1_793_617_200_000_001), "=cmd()\"\n,", 12.5, nil}, {[]byte("cd"), int64(0), "", int64(3), nil}}
	var table, list bytes.Buffer
	for _, e := range []exporter{newCSVExport(&table), newJSONExport(&list)} {
		for _, r := range rows {
			if err := e.row(r); err != nil {
				t.Fatal(err)
			}
		}
		if err := e.end(); err != nil {
			t.Fatal(err)
		}
	}
	got, err := csv.NewReader(&table).ReadAll()
	if err != nil || got[1][1] != "2026-11-02T11:00:00.000001Z" || got[1][2] != `'=cmd()"\n,` || got[1][3] != "12.5" || got[1][4] != "" || got[2][0] != "cd" || got[2][3] != "3" {
		t.Errorf("%q, %v", got, err)
	}
	var objects []map[string]any
	if err := json.Unmarshal(list.Bytes(), &objects); err != nil || len(objects) != 2 || objects[0]["why"] != "=cmd()\"\n," || objects[0]["low"] != nil || objects[1]["run"] != "cd" || objects[0]["began"] != "2026-11-02T11:00:00.000001Z" {
		t.Errorf("%v, %v", objects, err)
	}
	var none bytes.Buffer
	e := newJSONExport(&none)
	if err := errors.Join(e.row(rows[0]), e.end(), json.Unmarshal(none.Bytes(), &objects)); err != nil || len(objects) != 0 {
		t.Errorf("of no rows: %s, %v", none.String(), err)
	}
}

// What the ledger says of a record that lies elsewhere, or is another now.
func TestRecordState(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "r.record")
	w, err := record.Create(path, record.Origin{Run: "a1"})
	if err != nil {
		t.Fatal(err)
	}
	w.Event(record.Event{Time: time.Now(), Kind: record.Note, Text: "sealed"})
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	for want, r := range map[string]ledger.Run{
		"no record was kept":                  {},
		"it is not there any more":            {Run: "a1", Record: filepath.Join(dir, "gone")},
		"another record lies there now":       {Run: "b2", Record: path, RecordSum: w.Sum()},
		"intact, matches the ledger":          {Run: "a1", Record: path, RecordSum: w.Sum()},
		"its checksum is not the one":         {Run: "a1", Record: path, RecordSum: "other"},
		"whole: 3 lines, and the checksum of": {Run: "a1", Record: path},
	} {
		if got := recordState(r); !strings.Contains(got, want) {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
