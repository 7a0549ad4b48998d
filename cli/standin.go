package cli

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/BurntSushi/toml"
	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/port"
	"uparrot/core/port/rfc2217"
	"uparrot/core/sim"
)

func (a *app) standin() *cobra.Command {
	var dir, truth, order, again string
	cmd := &cobra.Command{
		Use:   "standin [BENCH|PHRASEBOOK]",
		Short: "Brings a simulated bench to life and keeps it running",
		Long: `Brings the stand-ins of a bench to life on pseudo-terminals, says where each is,
and keeps them running until it is told to stop (Ctrl-C). It leaves nothing behind.
A phrasebook alone makes one too: a module that answers as the phrasebook says, so
that a procedure can be tried before the module has come. So does a record with
--from-record: each of its modules answers again as it did then, with its times.

With --tell it gives an order to the bench that is running already:
  power NAME on|off|cycle   gives a module power or takes it away
  wire NAME crossed         joined as it should be, TX to RX both ways
  wire NAME straight        TX to TX: neither hears the other
  wire NAME open            no wire at all
  wire NAME looped          the host's own TX and RX joined
  wire NAME level           another logic level: both hear noise
  hand NAME WHAT            what a hand does: a Plover's jumper on, a Brambling's lever`,
		Example: "uparrot standin larkfell.toml --truth truth.json",
		Args:    args(0, 1, "one bench or phrasebook"),
		RunE: func(cmd *cobra.Command, args []string) error {
			read := bench.Read
			switch {
			case (again == "") == (len(args) == 0):
				return usage(cmd, "give a bench or a phrasebook, or a record with --from-record")
			case again != "":
				read, args = bench.OfRecord, []string{again}
			case isPhrasebook(args[0]):
				read = bench.OfPhrasebook
			}
			b, err := read(args[0])
			if again != "" && err != nil {
				return &errUsage{what: err.Error()}
			}
			if err != nil {
				return asUsage(err)
			}
			if len(b.Standins()) == 0 {
				return usage(cmd, "the bench %s has no stand-ins: give a port a table such as [port.valley.standin] with family = \"dunlin\"", args[0])
			}
			if dir == "" {
				dir = b.LinkDir()
			}
			if order != "" {
				return tell(dir, order)
			}
			for _, p := range b.Standins() {
				if strings.Contains(p.At, "://") {
					if err := served(p); err != nil {
						return err
					}
				}
			}
			live, err := wake(b, dir, func(module, said string) {
				a.err.line("%s was told what is not in the record: %s", safe(module), oneLine(said))
			})
			if err != nil {
				return err
			}
			for _, p := range b.Standins() {
				at := p.At
				if !strings.Contains(at, "://") {
					at = filepath.Join(dir, p.Name)
				}
				family := p.Standin.Family
				if p.Standin.Again != nil {
					family = "again as in the record, " + count(len(p.Standin.Again.Turns), "turn")
				} else if family == "" {
					family = p.Phrasebook.Family + " by its phrasebook"
				}
				fmt.Fprintf(a.out, "%s is at %s (%s, %s)\n", p.Name, at, family, p.Setup.Line())
			}
			fmt.Fprintf(a.out, "for other commands: --bench %s\n", filepath.Join(dir, benchCopy))
			a.err.line("Running. Ctrl-C ends it.")
			kept := make(chan error, 1)
			if truth != "" {
				go func() { kept <- live.KeepTruth(truth) }()
			}
			select {
			case <-cmd.Context().Done():
				err = nil
			case err = <-kept:
				kept <- err
			}
			err = errors.Join(err, live.end())
			if truth != "" {
				err = errors.Join(err, <-kept)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "", "folder for the links to the ports (default: beside the bench, BENCH.ports)")
	cmd.Flags().StringVar(&order, "tell", "", "give an order to the stand-ins that are running, such as \"power valley off\"")
	cmd.Flags().StringVar(&again, "from-record", "", "answer again as the modules in this record did")
	cmd.Flags().StringVar(&truth, "truth", "", "keep what the air really did in this file, as JSON")
	return cmd
}

// benchCopy is the bench file that a running bench leaves beside its links, with
// addresses as they are.
const benchCopy = "bench.toml"

// liveBench is stand-ins on pseudo-terminals, with links to them.
type liveBench struct {
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

// wake brings the stand-ins of a bench to life and links to them in a folder.
func wake(b *bench.Bench, dir string, strange func(module, said string)) (live *liveBench, err error) {
	live = &liveBench{dir: dir, release: func() {}}
	defer func() {
		if err != nil {
			err = errors.Join(err, live.end())
		}
	}()
	if _, serr := os.Stat(dir); errors.Is(serr, os.ErrNotExist) {
		live.made = true
	}
	lock := filepath.Join(dir, ".standin")
	if _, serr := os.Stat(lock); serr == nil {
		live.made = true // left by one that was killed
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return live, fmt.Errorf("make the folder for the links: %w", err)
	}
	if live.release, err = port.LockFile(lock); err != nil {
		live.release, live.made = func() {}, false
		return live, &errBroken{fmt.Sprintf("the stand-ins in %s are running already. End that program, or choose another folder with --dir", dir)}
	}
	live.files = append(live.files, lock)
	var cfg sim.Config
	cfg.Air, cfg.Strange = b.Air, strange
	for _, p := range b.Standins() {
		cfg.Modules = append(cfg.Modules, *p.Standin)
	}
	if live.Bench, err = sim.New(cfg); err != nil {
		return live, &errUsage{what: fmt.Sprintf("%s: %v", b.File, err)}
	}
	for _, p := range b.Standins() {
		if strings.Contains(p.At, "://") {
			if err := live.serve(p); err != nil {
				return live, err
			}
			continue
		}
		pseudo, err := port.OpenPseudo()
		if err != nil {
			return live, err
		}
		live.pseudos = append(live.pseudos, pseudo)
		if _, err := live.Attach(p.Name, pseudo); err != nil {
			return live, err
		}
		if err := live.link(p.Name, pseudo.Path()); err != nil {
			return live, err
		}
	}
	if err := live.serveControl(); err != nil {
		return live, err
	}
	return live, live.copyBench(b)
}

// served checks the network address of a stand-in: a known kind, on loopback.
func served(p *bench.Port) error {
	scheme, where, _ := strings.Cut(p.At, "://")
	if scheme != "tcp" && scheme != "rfc2217" {
		return &errUsage{what: fmt.Sprintf("the stand-in %s cannot be served over %s: there are tcp and rfc2217, and pseudo-terminals where no address is given", p.Name, scheme)}
	}
	host, _, err := net.SplitHostPort(where)
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return &errUsage{what: fmt.Sprintf("the stand-in %s may be served on this machine alone: write %s://127.0.0.1:PORT", p.Name, scheme)}
	}
	return nil
}

// serve gives a stand-in to network clients, one at a time.
func (l *liveBench) serve(p *bench.Port) error {
	scheme, where, _ := strings.Cut(p.At, "://")
	ln, err := net.Listen("tcp", where)
	if err != nil {
		return &errBroken{fmt.Sprintf("serve the stand-in %s: %v", p.Name, err)}
	}
	l.listeners = append(l.listeners, ln)
	go func() {
		var busy atomic.Bool
		for {
			conn, err := ln.Accept()
			if err != nil {
				return // closed
			}
			if !busy.CompareAndSwap(false, true) {
				conn.Close() // a serial line has one host
				continue
			}
			go func() {
				defer busy.Store(false)
				defer conn.Close()
				var end io.ReadWriter = conn
				if scheme == "rfc2217" {
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
	return nil
}

// link makes a link, in place of one that a killed program left.
func (l *liveBench) link(name, target string) error {
	path := filepath.Join(l.dir, name)
	if info, err := os.Lstat(path); err == nil {
		if info.Mode()&os.ModeSymlink == 0 {
			return &errBroken{fmt.Sprintf("%s is in the way of the link to the stand-in. Move it, or choose another folder with --dir", path)}
		}
		if err := os.Remove(path); err != nil {
			return fmt.Errorf("replace the old link: %w", err)
		}
	}
	if err := os.Symlink(target, path); err != nil {
		return fmt.Errorf("link to the stand-in: %w", err)
	}
	l.files = append(l.files, path)
	return nil
}

// copyBench writes a bench with every port's address, for other commands.
func (l *liveBench) copyBench(b *bench.Bench) error {
	type entry struct {
		At         string `toml:"at"`
		Phrasebook string `toml:"phrasebook,omitempty"`
		Dialect    string `toml:"dialect,omitempty"`
		Speed      int    `toml:"speed,omitzero"`
		Frame      string `toml:"frame,omitempty"`
		Ending     string `toml:"ending,omitempty"`
	}
	entries := map[string]entry{}
	for _, p := range b.Ports {
		at := p.At
		if p.Standin != nil && !strings.Contains(at, "://") {
			at = filepath.Join(l.dir, p.Name)
		}
		if strings.Contains(at, "/") && !strings.Contains(at, "://") {
			at = absolute(at)
		}
		e := entry{At: at, Dialect: p.Own.Dialect, Speed: p.Own.Speed, Ending: p.Own.Ending}
		if p.Own.Frame != nil {
			e.Frame = p.Own.Frame.String()
		}
		if p.Phrasebook != nil {
			e.Phrasebook = absolute(p.Phrasebook.File)
		}
		entries[p.Name] = e
	}
	path := filepath.Join(l.dir, benchCopy)
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write the bench for other commands: %w", err)
	}
	l.files = append(l.files, path)
	_, err = fmt.Fprintf(f, "# The bench of %s while its stand-ins run.\n\n", b.File)
	if err == nil {
		err = toml.NewEncoder(f).Encode(map[string]any{"port": entries})
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("write the bench for other commands: %w", err)
	}
	return nil
}

// absolute is a path from the root; where that cannot be told it stays.
func absolute(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// end stops the stand-ins and removes what was made.
func (l *liveBench) end() error {
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
		if err := os.Remove(l.dir); !errors.Is(err, syscall.ENOTEMPTY) { // somebody put something there
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}
