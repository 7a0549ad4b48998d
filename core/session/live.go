package session

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/port/rfc2217"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/source/toml"
	"uparrot/core/syserr"
)

// BenchCopy is the name of the bench file that a running bench leaves beside its links, with
// addresses as they are.
const BenchCopy = "bench.toml"

// openPseudo is another one in tests of systems that have no pseudo-terminals.
var openPseudo = port.OpenPseudo

// Live is stand-ins at work on pseudo-terminals, with links to them in a folder. Where the
// system has none they are served over RFC 2217 on this machine, and the links are files that
// name the address.
type Live struct {
	*sim.Bench
	dir     string
	made    bool // the folder is ours
	files   []string
	pseudos []*port.Pseudo
	control net.Listener
	// listeners are those of stand-ins that are served over the network.
	listeners []net.Listener
	release   func()
}

// Wake brings the stand-ins of a bench to life and links to them in a folder.
// Strange, which may be nil, is told what was said to a module out of a record that
// the record does not know.
func Wake(b *bench.Bench, dir string, strange func(module, said string)) (live *Live, err error) {
	live = &Live{dir: dir, release: func() {}}
	defer func() {
		if err != nil {
			err = errors.Join(err, live.End())
		}
	}()
	for _, p := range b.Standins() {
		if p.At.Network() {
			if err := served(p); err != nil {
				return live, err
			}
		}
	}
	if _, serr := os.Stat(dir); errors.Is(serr, os.ErrNotExist) {
		live.made = true
	}
	lock := filepath.Join(dir, port.StandinLock)
	if _, serr := os.Stat(lock); serr == nil {
		live.made = true // left by one that was killed
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return live, fmt.Errorf("make the folder for the links: %w", err)
	}
	if live.release, err = port.LockFile(lock); err != nil {
		live.release, live.made = func() {}, false
		return live, &Unable{fmt.Sprintf("the stand-ins in %s are running already. End that program, or choose another folder with --dir", dir)}
	}
	live.files = append(live.files, lock)
	cfg := sim.Config{Air: b.Air, Strange: strange, Families: families.All}
	for _, p := range b.Standins() {
		cfg.Modules = append(cfg.Modules, *p.Standin)
	}
	if live.Bench, err = sim.New(cfg); err != nil {
		return live, &Misuse{What: fmt.Sprintf("%s: %v", b.File, err)}
	}
	for _, p := range b.Standins() {
		if p.At.Network() {
			if _, err := live.serve(p, p.At); err != nil {
				return live, err
			}
			continue
		}
		if err := live.put(p); err != nil {
			return live, err
		}
	}
	if err := live.serveControl(); err != nil {
		return live, err
	}
	return live, live.copyBench(b)
}

// served checks the network address of a stand-in: a known kind, on loopback.
func served(p *bench.Entry) error {
	if p.At.Scheme != port.TCP && p.At.Scheme != port.RFC2217 {
		return &Misuse{What: fmt.Sprintf("the stand-in %s cannot be served over %s: there are tcp and rfc2217, and pseudo-terminals where no address is given", p.Name, p.At.Scheme)}
	}
	host, _, err := net.SplitHostPort(p.At.Where)
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return &Misuse{What: fmt.Sprintf("the stand-in %s may be served on this machine alone: write %s://127.0.0.1:PORT", p.Name, p.At.Scheme)}
	}
	return nil
}

// put gives a stand-in a place in the folder.
func (l *Live) put(p *bench.Entry) error {
	pseudo, err := openPseudo()
	if errors.Is(err, errors.ErrUnsupported) {
		at, err := l.serve(p, port.Address{Scheme: port.RFC2217, Where: "127.0.0.1:0"})
		if err != nil {
			return err
		}
		return l.link(p.Name, func(path string) error { return port.PointTo(path, at) })
	}
	if err != nil {
		return err
	}
	l.pseudos = append(l.pseudos, pseudo)
	if _, err := l.Attach(p.Name, pseudo); err != nil {
		return err
	}
	return l.link(p.Name, func(path string) error { return os.Symlink(pseudo.Path(), path) })
}

// serve gives a stand-in to network clients, one at a time, and tells where.
func (l *Live) serve(p *bench.Entry, at port.Address) (port.Address, error) {
	ln, err := net.Listen("tcp", at.Where)
	if err != nil {
		return at, &Unable{fmt.Sprintf("serve the stand-in %s: %v", p.Name, err)}
	}
	at.Where = ln.Addr().String()
	l.listeners = append(l.listeners, ln)
	go func() {
		turn := make(chan struct{}, 1)
		for {
			conn, err := ln.Accept()
			if err != nil {
				return // closed
			}
			go func() {
				defer conn.Close()
				select {
				case turn <- struct{}{}:
				case <-time.After(turnWithin): // a serial line has one host
					return
				}
				defer func() { <-turn }()
				var end io.ReadWriter = conn
				if at.Scheme == port.RFC2217 {
					if end, err = rfc2217.NewSession(conn, p.Setup.Line()); err != nil {
						return
					}
				}
				if over, err := l.Attach(p.Name, end); err == nil {
					<-over
				}
			}()
		}
	}()
	return at, nil
}

// turnWithin is how long a host may take to let go of a stand-in that another has called: one
// that closes its end and calls again must not be turned away.
const turnWithin = time.Second

// At is where a stand-in is.
func (l *Live) At(p *bench.Entry) port.Address {
	if p.At.Network() {
		return p.At
	}
	return port.Address{Where: filepath.Join(l.dir, p.Name)}
}

// link makes a link, in place of one that a killed program left.
func (l *Live) link(name string, make func(path string) error) error {
	path := filepath.Join(l.dir, name)
	if info, err := os.Lstat(path); err == nil {
		if info.Mode()&os.ModeSymlink == 0 && !port.Points(path) {
			return &Unable{fmt.Sprintf("%s is in the way of the link to the stand-in. Move it, or choose another folder with --dir", path)}
		}
		if err := os.Remove(path); err != nil {
			return fmt.Errorf("replace the old link: %w", err)
		}
	}
	if err := make(path); err != nil {
		return fmt.Errorf("link to the stand-in: %w", err)
	}
	l.files = append(l.files, path)
	return nil
}

// copyBench writes a bench with every port's address, for other commands.
func (l *Live) copyBench(b *bench.Bench) error {
	type entry struct {
		At         string `toml:"at"`
		Phrasebook string `toml:"phrasebook,omitempty"`
		phrasebook.Setup
	}
	entries := map[string]entry{}
	for _, p := range b.Ports {
		at := p.At
		if p.Standin != nil {
			at = l.At(p)
		}
		if at.Path() {
			at.Where = Absolute(at.Where)
		}
		e := entry{At: at.String(), Setup: p.Own}
		if p.Phrasebook != nil {
			e.Phrasebook = Absolute(p.Phrasebook.File)
		}
		entries[p.Name] = e
	}
	path := filepath.Join(l.dir, BenchCopy)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write the bench for other commands: %w", err)
	}
	l.files = append(l.files, path)
	_, err = fmt.Fprintf(f, "# The bench of %s while its stand-ins run.\n\n", b.File)
	if err == nil {
		err = toml.Write(f, map[string]any{"port": entries})
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write the bench for other commands: %w", err)
	}
	return nil
}

// Absolute is a path from the root; where that cannot be told it stays.
func Absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// End stops the stand-ins and removes what was made.
func (l *Live) End() error {
	var errs []error
	if l.control != nil {
		errs = append(errs, l.control.Close()) // also removes the socket
	}
	for _, ln := range l.listeners {
		errs = append(errs, ln.Close())
	}
	for _, p := range l.pseudos {
		errs = append(errs, p.Close())
	}
	if l.Bench != nil {
		l.Close()
	}
	for _, f := range l.files {
		errs = append(errs, os.Remove(f))
	}
	l.release()
	if l.made {
		if err := os.Remove(l.dir); !syserr.Is(err, syserr.NotEmpty) { // somebody put something there
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}
