// Package simtest makes modules for tests: simulated ones, or ones that the test
// plays itself, on ports within the program. In a bubble of testing/synctest all of
// it runs in simulated time.
package simtest

import (
	"io"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/sim"
	"uparrot/core/sim/families"
	"uparrot/core/uart"
	"uparrot/examples"
)

// Bench is simulated modules at work until the test ends.
type Bench struct {
	*sim.Bench
	t       testing.TB
	modules map[string]bench.Standin
}

// New makes a bench. A module without a name is m, one without a line has
// uart.DefaultLine.
func New(t testing.TB, air bench.Air, modules ...bench.Standin) *Bench {
	t.Helper()
	b := &Bench{t: t, modules: map[string]bench.Standin{}}
	for i := range modules {
		m := &modules[i]
		if m.Name == "" {
			m.Name = "m"
		}
		if m.Line.Speed == 0 {
			m.Line = uart.DefaultLine
		}
		b.modules[m.Name] = *m
	}
	var err error
	if b.Bench, err = sim.New(sim.Config{Air: air, Sleep: time.Sleep, Modules: modules, Families: families.All}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

// Host joins a module to a port, set as the module is, and returns the host's side.
func (b *Bench) Host(name string) port.Port {
	b.t.Helper()
	host, module := port.Pipe(name, b.modules[name].Line)
	if _, err := b.Attach(name, module); err != nil {
		b.t.Fatal(err)
	}
	b.t.Cleanup(func() { host.Close() })
	return host
}

// Station is a module's port, ready to be spoken to as a phrasebook, which may be
// nil, says. Each opening joins it anew.
func (b *Bench) Station(name string, book *phrasebook.Phrasebook) *bench.Station {
	s := &bench.Station{Name: name, Address: port.Address{Where: name}, Phrasebook: book}
	if book != nil {
		s.Setup = book.Setup()
	}
	s.Dial = func() (port.Port, error) {
		host, module := port.Pipe(name, s.Setup.Line())
		_, err := b.Attach(name, module)
		return host, err
	}
	return s
}

// Listener is the host's side of a module's port, with what came there.
type Listener struct {
	Host  port.Port
	t     testing.TB
	mu    sync.Mutex
	heard strings.Builder
}

// Write takes in what came.
func (l *Listener) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.heard.Write(b)
}

// Listen joins a module and gathers what comes from it. It is for tests in made-up
// time.
func (b *Bench) Listen(name string) *Listener {
	b.t.Helper()
	l := &Listener{Host: b.Host(name), t: b.t}
	go io.Copy(l, l.Host)
	return l
}

// After waits and returns what has come since the last look, line ends as bars.
func (l *Listener) After(d time.Duration) string {
	time.Sleep(d)
	synctest.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	s := strings.ReplaceAll(l.heard.String(), "\r\n", "|")
	l.heard.Reset()
	return s
}

// Say says text and returns what comes within a second.
func (l *Listener) Say(text string) string {
	l.t.Helper()
	if _, err := l.Host.Write(l.t.Context(), []byte(text)); err != nil {
		l.t.Fatal(err)
	}
	return l.After(time.Second)
}

// Played is a port whose module the test plays: what it writes to the module comes
// at the port.
func Played(name string, setup phrasebook.Setup, book *phrasebook.Phrasebook) (*bench.Station, io.ReadWriteCloser) {
	host, module := port.Pipe(name, setup.Line())
	s := &bench.Station{Name: name, Address: port.Address{Where: name}, Setup: setup, Phrasebook: book}
	s.Dial = func() (port.Port, error) { return host, nil }
	return s, module
}

// Answer has a played module answer each line, which CR ends, with what f returns.
func Answer(module io.ReadWriter, f func(line string) string) {
	go func() {
		buf, line := make([]byte, 1), ""
		for {
			if _, err := module.Read(buf); err != nil {
				return
			}
			if buf[0] != '\r' {
				line += string(buf)
				continue
			}
			reply := f(line)
			line = ""
			if _, err := io.WriteString(module, reply); err != nil {
				return
			}
		}
	}()
}

// Book is the phrasebook of an example of the Larkfell cableway, such as
// dunlin.toml.
func Book(t testing.TB, name string) *phrasebook.Phrasebook {
	t.Helper()
	text, err := examples.Files.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	pb, err := phrasebook.Parse(name, string(text))
	if err != nil {
		t.Fatal(err)
	}
	return pb
}

// Radios are two Dunlins, valley with address 1 and summit, with an air between.
func Radios(t testing.TB, air bench.Air, summitAddress string) (b *Bench, valley, summit *bench.Station) {
	t.Helper()
	book := Book(t, "dunlin.toml")
	b = New(t, air,
		bench.Standin{Name: "valley", Family: "dunlin", Settings: map[string]string{"node": "1"}},
		bench.Standin{Name: "summit", Family: "dunlin", Place: 1400, Settings: map[string]string{"node": summitAddress}})
	return b, b.Station("valley", book), b.Station("summit", book)
}
