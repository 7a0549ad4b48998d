package write

import (
	"os"
	"testing"

	"uparrot/core/record"
)

// A phrasebook that has moved with its record is found, another of its name is not.
func TestWhereNow(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	if err := os.MkdirAll("site/evidence", 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile("site/dunlin.toml", []byte("family"), 0o600); err != nil {
		t.Fatal(err)
	}
	o := record.Origin{Files: []record.File{{Path: "bench/dunlin.toml", SHA256: record.Sum([]byte("family"))}, {Path: "bench/other.toml", SHA256: "x"}}}
	for file, want := range map[string]string{"bench/dunlin.toml": "site/dunlin.toml", "bench/other.toml": "bench/other.toml", "site/dunlin.toml": "site/dunlin.toml", "": ""} {
		if got := whereNow(file, o, "site/evidence/r.record"); got != want {
			t.Errorf("%s: %s, want %s", file, got, want)
		}
	}
}
