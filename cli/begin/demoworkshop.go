package begin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/session"
	"uparrot/core/verdict"
)

// family is a module of the workshop with its procedure. Each has ports of its
// own, so all are put into service at once.
type family struct {
	bench string // its file; workshop.toml unless given
	name  string // of the procedure and its record
	unit  string
	wants verdict.Verdict // passed unless given
	note  string
	hands map[string]func(*session.Live) error // what hands do, by a part of what a person is told
	set   []string
	at    map[string]string
	took  time.Duration
	came  verdict.Verdict
	err   error
}

// hands do what a procedure tells an operator, at a simulated bench.
type hands struct {
	live *session.Live
	do   map[string]func(*session.Live) error
}

func (h *hands) Tell(_ context.Context, text string) error {
	for part, do := range h.do {
		if strings.Contains(text, part) {
			return do(h.live)
		}
	}
	return nil
}

func (h *hands) Confirm(context.Context, string) (bool, error) { return true, nil }

func (h *hands) Value(context.Context, string, func(string) error) (string, error) {
	return "", errors.New("the demo has no value to give")
}

// workshopSecrets are those of the procedures of the workshop.
var workshopSecrets = map[string]string{"UPARROT_NETWORK_KEY": "frost-and-rime", "UPARROT_CODE": "snowline"}

// families are the modules of the workshop; service, server and listener are port
// numbers of this machine for those that speak in the network.
func workshopFamilies(service, server, listener string) []*family {
	lever := func(l *session.Live) error { return l.Hand("brakes", []string{"lever"}) }
	jumper := func(l *session.Live) error {
		return errors.Join(l.Hand("gauge", []string{"jumper", "on"}), l.Power("gauge", false), l.Power("gauge", true))
	}
	return []*family{
		{name: "siskin", unit: "SK-0031"},
		{bench: "station.toml", name: "boards", unit: "RS-0005"},
		{bench: "station.toml", name: "curlew", unit: "CU-0017"},
		{bench: "ropeway.toml", name: "fieldfare", unit: "FF-0021", at: map[string]string{"radio": "valley"}},
		{name: "twite", unit: "TW-0008", set: []string{"server_port=" + server, "listener_port=" + listener}},
		{name: "bittern", unit: "BT-0002", set: []string{"service=" + service}},
		{name: "tower", unit: "BT-0014"},
		{name: "wheatear", unit: "mast 6"},
		{name: "plover", unit: "PL-0103", hands: map[string]func(*session.Live) error{"jumper": jumper}},
		{name: "brambling", unit: "BR-0044", wants: verdict.Failed, note: "as it should: its release time is out of its limits", hands: map[string]func(*session.Live) error{"lever": lever}},
	}
}

// workshop begins to put a module of each other family into service, without a
// word, and returns what waits for that and tells of it.
func (d *demonstration) workshop() (wait func() error) {
	var list []*family
	benches := map[string]*workshopBench{}
	var all sync.WaitGroup
	d.stop = sync.OnceValue(func() error {
		all.Wait()
		var errs []error
		for _, b := range benches {
			errs = append(errs, b.live.End())
		}
		return errors.Join(errs...)
	})
	err := func() error {
		service, err1 := freePort("tcp")
		server, err2 := freePort("tcp")
		listener, err3 := freePort("udp")
		if err := errors.Join(err1, err2, err3); err != nil {
			return err
		}
		list = workshopFamilies(service, server, listener)
		for _, f := range list {
			if f.bench == "" {
				f.bench = "workshop.toml"
			}
			if benches[f.bench] == nil {
				b, err := wakeWorkshop(d.in(f.bench), service)
				if err != nil {
					return err
				}
				benches[f.bench] = b
			}
		}
		return nil
	}()
	if err == nil {
		for _, f := range list {
			all.Go(func() { f.err = d.family(f, benches[f.bench]) })
		}
	}
	return func() error {
		if err := errors.Join(err, d.stop()); err != nil {
			return err
		}
		return d.toldFamilies(list)
	}
}

// workshopBench is a bench that was brought to life.
type workshopBench struct {
	bench *bench.Bench
	live  *session.Live
}

// wakeWorkshop brings a bench to life where nobody else is: at free ports of the
// network.
func wakeWorkshop(file, service string) (*workshopBench, error) {
	b, err := shell.ReadBench(file)
	if err != nil {
		return nil, err
	}
	for _, p := range b.Standins() {
		if _, ok := p.Standin.Settings["service"]; ok {
			p.Standin.Settings["service"] = service
		}
		if p.At.Network() {
			number, err := freePort("tcp")
			if err != nil {
				return nil, err
			}
			p.At.Where = "127.0.0.1:" + number
		}
	}
	live, err := session.Wake(b, b.LinkDir(), nil)
	return &workshopBench{b, live}, err
}

// family performs one procedure without a word.
func (d *demonstration) family(f *family, b *workshopBench) error {
	began := time.Now()
	p, err := d.procedure(&session.Ports{Bench: b.bench}, d.in(f.name+".parrot"), filepath.Join(d.dir, demoEvidence, f.name+".record"), f.unit, f.set...)
	if err != nil {
		return err
	}
	p.At = f.at
	if f.hands != nil {
		p.Operator = &hands{b.live, f.hands}
	}
	if err := (session.Secrets{Lookup: func(name string) string { return workshopSecrets[name] }}).Into(p.Values, p.File); err != nil {
		return err
	}
	res, err := p.Do(d.ctx)
	f.came, f.took = res.Verdict, time.Since(began)
	return err
}

// toldFamilies tells what came of the families, and whether it is what must come.
func (d *demonstration) toldFamilies(list []*family) error {
	s := shell.NewScreen(d.Out)
	rows := [][]string{{"procedure", "unit", "verdict", "time", ""}}
	for _, f := range list {
		if f.err != nil {
			return fmt.Errorf("%s: %w", f.name, f.err)
		}
		if f.wants == "" {
			f.wants = verdict.Passed
		}
		note := f.note
		if f.came != f.wants {
			note = "wanted " + string(f.wants)
			d.came(verdict.Failed)
		}
		rows = append(rows, []string{f.name + ".parrot", f.unit, s.Verdict(f.came, 0), shell.Took(f.took), note})
	}
	shell.Table(d.Out, rows)
	return nil
}

// freePort is a port number of this machine that nobody uses at the moment.
func freePort(network string) (string, error) {
	var at net.Addr
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer c.Close()
		at = c.LocalAddr()
	} else {
		c, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return "", err
		}
		defer c.Close()
		at = c.Addr()
	}
	_, port, err := net.SplitHostPort(at.String())
	return port, err
}
