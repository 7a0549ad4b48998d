package bench

import (
	"os"
	"path/filepath"
	"testing"
)

func FuzzRead(f *testing.F) {
	f.Add("[port.valley]\nat = \"/dev/ttyUSB0\"\ndialect = \"at\"\nprompt = [\"a\", \"b\"]\npager = \"-- more --\"\n[port.valley.standin]\nfamily = \"dunlin\"\nsettings = { address = 1 }\n[air]\nloss = \"2%\"\n")
	f.Add("[port.gates]\nat = \"rfc2217://127.0.0.1:2217\"\nspeed = 9600\nframe = \"7E1\"\nhears = [\"x\"]\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "b.toml")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		b, err := Read(path, []string{"dunlin"})
		if err == nil && b == nil {
			t.Error("neither a bench nor a mistake")
		}
	})
}
