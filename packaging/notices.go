package main

import (
	"bytes"
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
)

// legal are the names of files that say under which terms a module may be used.
var legal = regexp.MustCompile(`(?i)^(licen[cs]e|copying|copyright|notice|patents|authors|contributors|ofl)([-._].*)?$`)

// must is what a module must have one of, at least.
var must = regexp.MustCompile(`(?i)^(licen[cs]e|copying|ofl)`)

// notices are the terms of Go and of every module that is linked into a program. A module
// without any is an error: nobody may be given what nobody is allowed to.
func notices(program string) ([]byte, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, err
	}
	dirs, err := moduleFolders()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "uparrot is one program with all that it needs. The terms of what is linked into it:\n")
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	if err := terms(&out, "Go's runtime and standard library, "+info.GoVersion, strings.TrimSpace(string(root))); err != nil {
		return nil, err
	}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		dir := dirs[m.Path+"@"+m.Version]
		if dir == "" {
			return nil, fmt.Errorf("the module %s %s is not on this machine", m.Path, m.Version)
		}
		if err := terms(&out, m.Path+" "+m.Version, dir); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// terms writes the terms that lie in a folder.
func terms(out *bytes.Buffer, of, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	found := false
	for _, e := range entries {
		if e.IsDir() || !legal.MatchString(e.Name()) {
			continue
		}
		found = found || must.MatchString(e.Name())
		b, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "\n%s\n%s, %s\n%s\n\n%s\n", strings.Repeat("=", 80), of, e.Name(), strings.Repeat("=", 80), bytes.TrimSpace(b))
	}
	if !found {
		return fmt.Errorf("%s has no licence in %s", of, filepath.Base(dir))
	}
	return nil
}

// moduleFolders are where the sources of all modules of the program lie, by path@version.
func moduleFolders() (map[string]string, error) {
	list, err := exec.Command("go", "list", "-C", "..", "-m", "-json", "all").Output()
	if err != nil {
		return nil, fmt.Errorf("list the modules: %w", err)
	}
	dirs := map[string]string{}
	for dec := json.NewDecoder(bytes.NewReader(list)); ; {
		var m struct{ Path, Version, Dir string }
		switch err := dec.Decode(&m); {
		case errors.Is(err, io.EOF):
			return dirs, nil
		case err != nil:
			return nil, err
		}
		dirs[m.Path+"@"+m.Version] = m.Dir
	}
}

// materials writes the bill of materials of a program in CycloneDX.
func (r *release) materials(t target, program string) error {
	tool := filepath.Join(r.work, "cyclonedx-gomod")
	if _, err := os.Stat(tool); err != nil {
		build := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-o", tool, // whose own sum stands in the bill
			"github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod")
		build.Env, build.Stderr = (target{runtime.GOOS, runtime.GOARCH}).environment(), os.Stderr
		if err := build.Run(); err != nil {
			return err
		}
	}
	out := filepath.Join(r.out, fmt.Sprintf("uparrot-%s-%s.cdx.json", r.version, t))
	write := exec.Command(tool, "bin", "-json", "-noserial", "-notimestamp", "-std", "-version", "v"+r.version, "-output", out, program)
	write.Dir, write.Stderr = r.root, os.Stderr
	return write.Run()
}
