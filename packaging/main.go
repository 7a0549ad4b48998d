// Packaging makes a release of uparrot: a program for each system, packed with its pages, examples,
// completions and the licences of what is linked in; Debian and RPM packages; a bill of materials
// for each program; and the sums of all of it. The same sources give the same bytes.
//
//	cd packaging && go run . --out ../release
package main

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"
)

// target is a system and a processor that a program is built for.
type target struct{ system, arch string }

// targets are all that a release has.
var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"linux", "armv7"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}}

func (t target) String() string { return t.system + "-" + t.arch }

// environment is what the compiler is told of a target.
func (t target) environment() []string {
	return append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.system, "GOARCH="+strings.TrimSuffix(t.arch, "v7"), "GOARM=7", "GOAMD64=v1", "GOFLAGS=")
}

// release is one that is being made.
type release struct {
	root    string // of the sources
	out     string // where it goes
	work    string // what is thrown away afterwards
	version string
	commit  string
	at      time.Time // what every file bears
}

func main() {
	out := flag.String("out", "../release", "folder for the release; what it holds of an earlier one is replaced")
	only := flag.String("only", "", "only this target, such as linux-amd64")
	flag.Parse()
	if err := build(*out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func build(out, only string) error {
	r := &release{root: ".."}
	var err error
	if r.out, err = filepath.Abs(out); err != nil {
		return err
	}
	if r.root, err = filepath.Abs(r.root); err != nil {
		return err
	}
	if err := r.identify(); err != nil {
		return err
	}
	if r.work, err = os.MkdirTemp("", "uparrot-release-"); err != nil {
		return err
	}
	defer os.RemoveAll(r.work)
	if err := os.RemoveAll(r.out); err != nil {
		return err
	}
	if err := os.MkdirAll(r.out, 0o755); err != nil {
		return err
	}
	common, err := r.common()
	if err != nil {
		return fmt.Errorf("what all targets share: %w", err)
	}
	for _, t := range targets {
		if only != "" && only != t.String() {
			continue
		}
		began := time.Now()
		if err := r.target(t, common); err != nil {
			return fmt.Errorf("%s: %w", t, err)
		}
		fmt.Printf("%s: %d s\n", t, int(time.Since(began).Seconds()))
	}
	return r.sums()
}

// identify finds the version in the sources, and the commit and its time.
func (r *release) identify() error {
	version, err := exec.Command("go", "run", "-C", r.root, ".", "--version").Output()
	if err != nil {
		return fmt.Errorf("ask the program for its version: %w", err)
	}
	words := strings.Fields(strings.ReplaceAll(string(version), ",", ""))
	if len(words) < 2 {
		return fmt.Errorf("the version is %q", version)
	}
	r.version = words[1]
	head, err := exec.Command("git", "-C", r.root, "log", "-1", "--format=%h %ct", "--abbrev=12").Output()
	if err != nil {
		return fmt.Errorf("find the commit: %w", err)
	}
	words = strings.Fields(string(head))
	if len(words) != 2 {
		return fmt.Errorf("the commit is %q", head)
	}
	seconds, err := strconv.ParseInt(words[1], 10, 64)
	r.commit, r.at = words[0], time.Unix(seconds, 0).UTC()
	return err
}

// target builds one program and packs it.
func (r *release) target(t target, common []file) error {
	program := filepath.Join(r.work, t.String(), "uparrot")
	if t.system == "windows" {
		program += ".exe"
	}
	build := exec.Command("go", "build", "-C", r.root, "-trimpath", "-buildvcs=false", "-ldflags", "-s -w -buildid= -X uparrot/cli/shell.commit="+r.commit, "-o", program, ".")
	build.Env, build.Stderr = t.environment(), os.Stderr
	if err := build.Run(); err != nil {
		return fmt.Errorf("build: %w", err)
	}
	notices, err := notices(program)
	if err != nil {
		return fmt.Errorf("collect the licences: %w", err)
	}
	if err := r.materials(t, program); err != nil {
		return fmt.Errorf("write the bill of materials: %w", err)
	}
	all := append([]file{{name: filepath.Base(program), from: program, mode: 0o755}, {name: "NOTICES.txt", text: notices}}, common...)
	if err := r.pack(t, all); err != nil {
		return fmt.Errorf("pack: %w", err)
	}
	if t.system == "linux" {
		return r.packages(t, program, notices, common)
	}
	return nil
}

// host is the program for this machine, which writes its own pages.
func (r *release) host() (string, error) {
	path := filepath.Join(r.work, "host")
	build := exec.Command("go", "build", "-C", r.root, "-o", path, ".")
	build.Env, build.Stderr = target{runtime.GOOS, runtime.GOARCH}.environment(), os.Stderr
	return path, build.Run()
}
