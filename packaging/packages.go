package main

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb" // the two forms that are written
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// archOf is what each form of package calls a processor.
var archOf = map[string]string{"amd64": "amd64", "arm64": "arm64", "armv7": "arm7"}

// place is where a file of the archive lies when it is installed; "" if it is not.
func place(name string) string {
	switch folder, rest, _ := strings.Cut(name, "/"); folder {
	case "README.md":
		return "/usr/share/doc/uparrot/README.md"
	case "docs", "examples":
		return "/usr/share/doc/uparrot/" + name
	case "man":
		return "/usr/share/" + name + ".gz"
	case "udev":
		return "/usr/lib/udev/rules.d/" + rest
	case "completions":
		return map[string]string{"bash": "/usr/share/bash-completion/completions/uparrot", "zsh": "/usr/share/zsh/site-functions/_uparrot", "fish": "/usr/share/fish/vendor_completions.d/uparrot.fish"}[path.Dir(rest)]
	}
	return ""
}

// packages writes the Debian package and the RPM package of a target.
func (r *release) packages(t target, program string, notices []byte, common []file) error {
	for _, form := range []string{"deb", "rpm"} {
		info, err := r.describe(t, form, program, notices, common)
		if err != nil {
			return err
		}
		packager, err := nfpm.Get(form)
		if err != nil {
			return err
		}
		f, err := os.Create(filepath.Join(r.out, packager.ConventionalFileName(info)))
		if err != nil {
			return err
		}
		if err := packager.Package(info, f); err != nil {
			f.Close()
			return fmt.Errorf("write the %s: %w", form, err)
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return nil
}

// describe lists what a package holds. Files that are packed or made here lie in a folder of their
// own, since a package takes all from files.
func (r *release) describe(t target, form, program string, notices []byte, common []file) (*nfpm.Info, error) {
	stage := filepath.Join(r.work, "stage", t.String(), form)
	contents := files.Contents{{Source: program, Destination: "/usr/bin/uparrot", FileInfo: &files.ContentFileInfo{Mode: 0o755, MTime: r.at}}}
	add := func(to string, b []byte) error {
		from := filepath.Join(stage, filepath.FromSlash(to))
		if err := os.MkdirAll(filepath.Dir(from), 0o755); err != nil {
			return err
		}
		contents = append(contents, &files.Content{Source: from, Destination: to, FileInfo: &files.ContentFileInfo{Mode: 0o644, MTime: r.at}})
		return os.WriteFile(from, b, 0o644)
	}
	for _, f := range common {
		to := place(f.name)
		if to == "" {
			continue
		}
		if form == "deb" { // where Debian's zsh looks
			to = strings.Replace(to, "/zsh/site-functions/", "/zsh/vendor-completions/", 1)
		}
		b, err := f.bytes()
		if err == nil && strings.HasSuffix(to, ".gz") {
			b, err = squeezed(b)
		}
		if err == nil {
			err = add(to, b)
		}
		if err != nil {
			return nil, err
		}
	}
	if err := add("/usr/share/doc/uparrot/copyright", notices); err != nil {
		return nil, err
	}
	info := &nfpm.Info{
		Name: "uparrot", Arch: archOf[t.arch], Platform: "linux", Version: r.version, Release: "1", Section: "electronics", Priority: "optional",
		Maintainer: "The makers of Upright Parrot <uparrot@localhost>", MTime: r.at, DisableGlobbing: true,
		Description: "puts radio, modem and console-attached modules into service\nSays a module's commands over a serial line, checks every answer against\nwhat must come, and measures the links that modules make.",
		Overridables: nfpm.Overridables{
			Contents: contents,
			Scripts:  nfpm.Scripts{PostInstall: "reload.sh", PostRemove: "reload.sh"},
		},
	}
	info.RPM.Summary = "Puts radio, modem and console-attached modules into service"
	info.RPM.BuildHost = "localhost"
	info.Deb.Compression = "xz"
	return nfpm.WithDefaults(info), nfpm.PrepareForPackager(info, form)
}
