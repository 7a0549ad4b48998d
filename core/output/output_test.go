package output

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What exists stays as it is unless that is asked for, and evidence always; nothing
// half written takes a name.
func TestFiles(t *testing.T) {
	const record = `{"t":"2026-11-02T07:30:00Z","kind":"record","data":{"version":3}}` + "\n"
	for _, c := range []struct {
		name  string
		files Files
		path  string
		plan  string // words of the refusal; "" if there is none
		fails bool   // the writing does
		want  string // name and text of the files afterwards, but for those from the start
	}{
		{"a new name", Files{}, "new", "", false, "new=text"},
		{"what exists", Files{}, "old", "exists. Choose another name", false, ""},
		{"overwritten", Files{Overwrite: true}, "old", "", false, "old=text"},
		{"both kept", Files{KeepBoth: true}, "old.csv", "", false, "old-3.csv=text"},
		{"both flags", Files{KeepBoth: true, Overwrite: true}, "old", "exclude each other", false, ""},
		{"a record", Files{Overwrite: true}, "record", "is a record, which nothing replaces", false, ""},
		{"a ledger", Files{Overwrite: true}, "ledger", "is a ledger, which nothing replaces", false, ""},
		{"an input", Files{Overwrite: true, Inputs: []string{"old"}}, "old", "is what this command reads", false, ""},
		{"an input by another name", Files{Overwrite: true, Inputs: []string{"hard"}}, "old", "is what this command reads", false, ""},
		{"an input through a link", Files{Overwrite: true, Inputs: []string{"old"}}, "link", "is what this command reads", false, ""},
		{"through a link", Files{Overwrite: true}, "link", "", false, "old=text"},
		{"through a link to nothing", Files{}, "nowhere", "", false, "target=text"},
		{"a folder", Files{}, "folder", "is a folder", false, ""},
		{"in no folder", Files{}, "none/new", "there is no folder", false, ""},
		{"a failure", Files{}, "new", "", true, ""},
		{"a failure in place of an old one", Files{Overwrite: true}, "old", "", true, ""},
		{"a device", Files{}, os.DevNull, "", false, ""},
	} {
		dir := t.TempDir()
		t.Chdir(dir)
		start := map[string]string{"old": "before", "old.csv": "1", "old-2.csv": "2", "record": record, "ledger": "SQLite format 3\x00...", fmt.Sprintf("new.%d.part", 1<<22+7): "of a killed program"}
		for name, text := range start {
			if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := errors.Join(os.Symlink("old", "link"), os.Symlink("target", "nowhere"), os.Link("old", "hard"), os.Mkdir("folder", 0o700)); err != nil {
			t.Fatal(err)
		}
		err := c.files.Plan("--out", c.path)
		if c.plan == "" && err != nil || c.plan != "" && (err == nil || !strings.Contains(fmt.Sprint(err), c.plan)) {
			t.Errorf("%s: planned: %v, want %q", c.name, err, c.plan)
		}
		if err == nil {
			_, err = c.files.Write(c.path, func(w io.Writer) error {
				if _, err := io.WriteString(w, "te"); err != nil || c.fails {
					return errors.Join(err, errors.New("it fails"))
				}
				_, err := io.WriteString(w, "xt")
				return err
			})
			if (err != nil) != c.fails {
				t.Errorf("%s: wrote: %v", c.name, err)
			}
		}
		var got []string
		all, _ := filepath.Glob("*")
		for _, name := range all {
			info, err := os.Lstat(name)
			if err != nil || !info.Mode().IsRegular() || name == "hard" {
				continue
			}
			text, err := os.ReadFile(name)
			if err == nil && string(text) != start[name] {
				got = append(got, name+"="+string(text))
				if info.Mode().Perm() != 0o600 {
					t.Errorf("%s: %s may be read by others: %v", c.name, name, info.Mode())
				}
			}
			if strings.HasSuffix(name, ".part") && c.path == "new" {
				t.Errorf("%s: %s was left", c.name, name)
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: there is %q, want %q", c.name, got, c.want)
		}
	}
	var two Files
	t.Chdir(t.TempDir())
	if err := errors.Join(os.Mkdir("a", 0o700), two.Plan("--plot", "a/../x"), two.Plan("--frames", "x")); err == nil || !strings.Contains(err.Error(), "--plot and --frames are both x") {
		t.Errorf("one name for two outputs: %v", err)
	}
}
