//go:build unix

// Package postgres starts a PostgreSQL server for tests, where one is installed.
package postgres

import (
	"bytes"
	"errors"
	"fmt"
	"net/url"
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

// Server is a running server with an empty database.
type Server struct {
	URL string

	run   func(name string, args ...string) *exec.Cmd
	dir   string
	cmd   *exec.Cmd
	ended chan struct{}
	log   bytes.Buffer
}

// Start makes an empty database in a folder of its own and starts its server,
// which takes connections on a socket in that folder alone.
func Start() (s *Server, err error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb") // the pattern is right
	if len(found) == 0 {
		return nil, ErrMissing
	}
	sort.Strings(found)
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "uparrot-postgres-")
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(dir))
		}
	}()
	var as *syscall.SysProcAttr
	if os.Getuid() == 0 { // the server will not run as root
		if as, err = other(dir); err != nil {
			return nil, err
		}
	}
	s = &Server{URL: "postgres://bench@/postgres?host=" + url.PathEscape(dir), dir: dir, run: func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir, cmd.SysProcAttr = dir, as
		return cmd
	}}
	if out, err := s.run("initdb", "-D", s.data(), "-U", "bench", "--auth=trust", "--no-sync", "-E", "UTF8").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	return s, s.Up()
}

func (s *Server) data() string { return filepath.Join(s.dir, "data") }

// Up starts the server.
func (s *Server) Up() error {
	s.cmd = s.run("postgres", "-D", s.data(), "-k", s.dir, "-c", "listen_addresses=", "-c", "fsync=off")
	s.cmd.Stdout, s.cmd.Stderr = &s.log, &s.log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	s.ended = ended
	go func() {
		_ = s.cmd.Wait() // it is ended by a signal
		close(ended)
	}()
	for begun := time.Now(); ; {
		if err := s.run("psql", "-h", s.dir, "-U", "bench", "-d", "postgres", "-c", "select 1").Run(); err == nil {
			return nil
		}
		select {
		case <-ended:
			return fmt.Errorf("the server ended:\n%s", s.log.String())
		case <-time.After(100 * time.Millisecond):
		}
		if time.Since(begun) > time.Minute {
			s.Down()
			return fmt.Errorf("the server took no connection within a minute:\n%s", s.log.String())
		}
	}
}

// Down ends the server as fast as it can in good order.
func (s *Server) Down() {
	_ = s.cmd.Process.Signal(syscall.SIGINT)
	<-s.ended
}

// Stop ends the server and removes its folder.
func (s *Server) Stop() {
	s.Down()
	_ = os.RemoveAll(s.dir)
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
