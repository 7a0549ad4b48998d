package tests

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// Every file that the project keeps belongs to it on any machine.
func TestTree(t *testing.T) {
	t.Parallel()
	for _, what := range misplaced(t, "..", kept(t)) {
		t.Error(what)
	}
}

// kept are the files that the project keeps: those of its repository, or all where it was unpacked
// without one.
func kept(t *testing.T) []string {
	t.Helper()
	list := exec.Command("git", "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	list.Dir = ".."
	if out, err := list.Output(); err == nil {
		return strings.FieldsFunc(string(out), func(r rune) bool { return r == 0 })
	}
	var files []string
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			path, err = filepath.Rel("..", path)
			files = append(files, filepath.ToSlash(path))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// leftover is the name of a file that an editor, a build or a merge leaves behind.
var leftover = regexp.MustCompile(`(~|\.(orig|rej|bak|tmp|swp|swo|test|exe|prof|out|log|old|pyc))$|^(core|\.DS_Store|Thumbs\.db|nohup\.out)$`)

// reserved is a name that Windows gives no file, with or without an extension.
var reserved = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)|[<>:"|?*\\]|[. ]$`)

// machine is a path that only some machine has. Those of the examples in tests are nobody's.
var machine = regexp.MustCompile(`(/home|/root|/work|/Users|/tmp|/var/folders|/mnt|/opt)/[A-Za-z0-9._-]+|[A-Z]:\\+(Users|Temp|Work)`)

// nobodys are made-up homes that tests and pages name, and the home of an emulated system.
var nobodys = []string{"/home/rigger", "/home/riggers", "/home/ops"}

// misplaced tells which of the files at root do not belong, and why.
func misplaced(t *testing.T, root string, files []string) (wrong []string) {
	t.Helper()
	root, err := filepath.Abs(root)
	if err == nil {
		root, err = filepath.EvalSymlinks(root)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		path := filepath.Join(root, file)
		info, err := os.Lstat(path)
		if os.IsNotExist(err) {
			continue // taken away, and not committed yet
		}
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Base(file)
		if leftover.MatchString(name) || info.Size() == 0 {
			wrong = append(wrong, file+" is left over")
		}
		for _, part := range strings.Split(file, "/") {
			if reserved.MatchString(part) {
				wrong = append(wrong, file+" has a name that Windows refuses")
			}
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			at, err := filepath.EvalSymlinks(path)
			if err != nil || !strings.HasPrefix(at, root+string(filepath.Separator)) {
				wrong = append(wrong, file+" is a link that leads nowhere or outside")
			}
			continue
		}
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range machine.FindAllString(string(text), -1) {
			if !slices.Contains(nobodys, found) && filepath.Ext(name) != ".png" {
				wrong = append(wrong, file+" names "+found+", a path of some machine")
			}
		}
	}
	return wrong
}

// What does not belong is noticed.
func TestMisplaced(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var files []string
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		files = append(files, name)
	}
	link := func(name, to string) {
		if err := os.Symlink(to, filepath.Join(dir, name)); err != nil {
			t.Skipf("no links here: %v", err)
		}
		files = append(files, name)
	}
	put("good.toml", "family = \"Dunlin\"\n")
	put("empty.go", "")
	put("a.go.orig", "package a\n")
	erika := strings.Join([]string{"", "home", "erika"}, "/")
	put("path.md", "the bench lies in "+erika+"/bench.toml\n")
	link("com7", "nowhere/at/all")
	link("outside", t.TempDir())
	link("inside", "good.toml")
	got := strings.Join(misplaced(t, dir, files), "\n")
	want := `empty.go is left over
a.go.orig is left over
path.md names ` + erika + `, a path of some machine
com7 has a name that Windows refuses
com7 is a link that leads nowhere or outside
outside is a link that leads nowhere or outside`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}
