//go:build unix

// Package postgres starts a PostgreSQL server for tests, where one is installed.
package postgres

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"syscall"
	"time"
)

// ErrMissing says that no server is installed.
var ErrMissing = errors.New("PostgreSQL is not installed (Debian: postgresql)")

// Start makes an empty database in a folder of its own and starts its server,
// which takes connections on a socket in that folder alone. Stop ends it and
// removes the folder.
func Start() (url string, stop func(), err error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb") // the pattern is right
	if len(found) == 0 {
		return "", nil, ErrMissing
	}
	sort.Strings(found)
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "uparrot-postgres-")
	if err != nil {
		return "", nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	var as *syscall.SysProcAttr
	if os.Getuid() == 0 { // the server will not run as root
		if as, err = other(dir); err != nil {
			return "", nil, err
		}
	}
	data := filepath.Join(dir, "data")
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir, cmd.SysProcAttr = dir, as
		return cmd
	}
	if out, err := run("initdb", "-D", data, "-U", "bench", "--auth=trust", "--no-sync", "-E", "UTF8").CombinedOutput(); err != nil {
		return "", nil, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	server := run("postgres", "-D", data, "-k", dir, "-c", "listen_addresses=", "-c", "fsync=off")
	var log bytes.Buffer
	server.Stdout, server.Stderr = &log, &log
	if err := server.Start(); err != nil {
		return "", nil, err
	}
	ended := make(chan struct{})
	go func() {
		_ = server.Wait() // it is ended by a signal
		close(ended)
	}()
	stop = func() {
		_ = server.Process.Signal(syscall.SIGINT) // a fast shutdown
		<-ended
		_ = os.RemoveAll(dir)
	}
	for begun := time.Now(); ; {
		if err := run("psql", "-h", dir, "-U", "bench", "-d", "postgres", "-c", "select 1").Run(); err == nil {
			return "postgres://bench@/postgres?host=" + dir, stop, nil
		}
		select {
		case <-ended:
			return "", nil, fmt.Errorf("the server ended:\n%s", log.String())
		case <-time.After(100 * time.Millisecond):
		}
		if time.Since(begun) > time.Minute {
			stop()
			return "", nil, fmt.Errorf("the server took no connection within a minute:\n%s", log.String())
		}
	}
}

// other is who the server runs as instead of root: it owns the folder then.
func other(dir string) (*syscall.SysProcAttr, error) {
	who, err := user.Lookup("postgres")
	if err != nil {
		if who, err = user.Lookup("nobody"); err != nil {
			return nil, err
		}
	}
	uid, err1 := strconv.Atoi(who.Uid)
	gid, err2 := strconv.Atoi(who.Gid)
	if err := errors.Join(err1, err2, os.Chown(dir, uid, gid)); err != nil {
		return nil, err
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}, nil
}
