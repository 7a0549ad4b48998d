package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
)

// file is a file of an archive: a copy of another, or a text.
type file struct {
	name string // with / between folders
	from string
	text []byte
	mode fs.FileMode // 0 is 0644
}

func (f file) bytes() ([]byte, error) {
	if f.from != "" {
		return os.ReadFile(f.from)
	}
	return f.text, nil
}

func (f file) permissions() fs.FileMode {
	if f.mode == 0 {
		return 0o644
	}
	return f.mode
}

// shells are those that completions are made for, and how their files are named.
var shells = map[string]string{"bash": "uparrot", "zsh": "_uparrot", "fish": "uparrot.fish", "powershell": "uparrot.ps1"}

// common are the files that every archive has beside its program.
func (r *release) common() ([]file, error) {
	host, err := r.host()
	if err != nil {
		return nil, err
	}
	pages := filepath.Join(r.work, "man1")
	write := exec.Command("go", "run", "-C", r.root, "./docs/manual", pages)
	write.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", r.at.Unix()))
	write.Stderr = os.Stderr
	if err := write.Run(); err != nil {
		return nil, fmt.Errorf("write the manual pages: %w", err)
	}
	all := []file{{name: "README.md", from: filepath.Join(r.root, "README.md")}, {name: "udev/61-uparrot.rules", from: "udev.rules"}}
	for shell, name := range shells {
		text, err := exec.Command(host, "completion", shell).Output()
		if err != nil {
			return nil, fmt.Errorf("write the completions for %s: %w", shell, err)
		}
		all = append(all, file{name: "completions/" + shell + "/" + name, text: text})
	}
	for _, tree := range []struct{ under, from, endings string }{
		{"man/man1", pages, ".1"}, {"docs", filepath.Join(r.root, "docs"), ".md .png .sh"}, {"examples", filepath.Join(r.root, "examples"), ".parrot .toml .csv"},
	} {
		err := filepath.WalkDir(tree.from, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.Contains(tree.endings+" ", filepath.Ext(path)+" ") || d.Name() == "make.sh" || filepath.Ext(path) == "" {
				return err
			}
			rel, err := filepath.Rel(tree.from, path)
			all = append(all, file{name: tree.under + "/" + filepath.ToSlash(rel), from: path})
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	sort.Slice(all, func(i, j int) bool { return all[i].name < all[j].name })
	return all, nil
}

// pack writes the archive of a target: one folder with all in it.
func (r *release) pack(t target, all []file) error {
	folder := fmt.Sprintf("uparrot-%s-%s", r.version, t)
	ending, write := ".tar.gz", r.writeTar
	if t.system == "windows" {
		ending, write = ".zip", r.writeZip
	}
	f, err := os.Create(filepath.Join(r.out, folder+ending))
	if err != nil {
		return err
	}
	defer f.Close()
	if err := write(f, folder, all); err != nil {
		return err
	}
	return f.Close()
}

func (r *release) writeTar(w io.Writer, folder string, all []file) error {
	packed := gzip.NewWriter(w) // its head has no time and no name
	tw := tar.NewWriter(packed)
	for _, f := range all {
		b, err := f.bytes()
		if err != nil {
			return err
		}
		head := &tar.Header{Name: folder + "/" + f.name, Mode: int64(f.permissions()), Size: int64(len(b)), ModTime: r.at, Format: tar.FormatPAX}
		if err := tw.WriteHeader(head); err != nil {
			return err
		}
		if _, err := tw.Write(b); err != nil {
			return err
		}
	}
	if err := tw.Close(); err != nil {
		return err
	}
	return packed.Close()
}

func (r *release) writeZip(w io.Writer, folder string, all []file) error {
	zw := zip.NewWriter(w)
	for _, f := range all {
		b, err := f.bytes()
		if err != nil {
			return err
		}
		head := &zip.FileHeader{Name: folder + "/" + f.name, Method: zip.Deflate, Modified: r.at}
		head.SetMode(f.permissions())
		entry, err := zw.CreateHeader(head)
		if err != nil {
			return err
		}
		if _, err := entry.Write(b); err != nil {
			return err
		}
	}
	return zw.Close()
}

// sums writes SHA256SUMS, as sha256sum does.
func (r *release) sums() error {
	entries, err := os.ReadDir(r.out)
	if err != nil {
		return err
	}
	var all bytes.Buffer
	for _, e := range entries {
		b, err := os.ReadFile(filepath.Join(r.out, e.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(&all, "%x  %s\n", sha256.Sum256(b), e.Name())
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), all.Bytes(), 0o644)
}

// squeezed is a text as gzip packs it, without time and name.
func squeezed(b []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err == nil {
		_, err = w.Write(b)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}
