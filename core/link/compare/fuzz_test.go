package compare

import (
	"os"
	"path/filepath"
	"testing"
)

func FuzzReadRun(f *testing.F) {
	f.Add(`{"kind":"link test","size":24,"directions":[{"from":"valley","to":"summit","sent":20,"lost":1,"received":19,"verdict":"passed"}]}`)
	f.Add(`{"summary":{"kind":"link test"}}`)
	f.Add(`{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":3}}` + "\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "r.json")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		sum, err := ReadRun(path)
		if err == nil {
			_, _ = Runs(path, sum, path, sum, 0.01) // only that it comes to an end
		}
	})
}
