// Package portlist lists the serial ports of this machine with what is known of
// each: the adapter behind it, the socket it is plugged into, who holds it. On
// Linux it reads sysfs and the process table, opening nothing.
package portlist

import (
	"fmt"
	"sort"
	"strings"

	"uparrot/core/port"
)

// Entry is one serial port.
type Entry struct {
	Path     string   `json:"path"`
	Make     string   `json:"make,omitempty"`    // maker of the adapter, as the adapter says
	Product  string   `json:"product,omitempty"` // as the adapter says
	Serial   string   `json:"serial,omitempty"`  // serial number of the adapter
	Socket   string   `json:"socket,omitempty"`  // bus path, such as 1-1.2; stays with the socket
	Driver   string   `json:"driver,omitempty"`
	HeldBy   []Holder `json:"held_by"`
	Console  bool     `json:"console"` // the system's own console or login is on it
	Free     bool     `json:"free"`    // this user may open it now
	Hint     string   `json:"hint,omitempty"`
	HoldBack *int     `json:"hold_back_ms,omitempty"` // how long the adapter gathers bytes before it hands them on, in milliseconds
}

// Holder is a program that has a port open.
type Holder struct {
	Program string `json:"program"`
	Process int    `json:"process"`
}

func (h Holder) String() string { return fmt.Sprintf("%s (process %d)", h.Program, h.Process) }

// knownBy is what an address of each kind picks a port by.
var knownBy = map[port.Scheme]func(Entry) string{
	port.BySerial:  func(p Entry) string { return p.Serial },
	port.BySocket:  func(p Entry) string { return p.Socket },
	port.ByProduct: func(p Entry) string { return strings.TrimSpace(p.Make + " " + p.Product) },
}

// Resolve finds the one port that an address picks by what is known of its
// adapter; any other address stays as it is. A product matches if all its words are
// in make and product. None, and more than one, is an error that lists what there
// is.
func Resolve(a port.Address, all []Entry) (port.Address, error) {
	of, ok := knownBy[a.Scheme]
	if !ok {
		return a, nil
	}
	want := a.Where
	var found []Entry
	for _, p := range all {
		got := of(p)
		if got == "" {
			continue
		}
		match := strings.EqualFold(got, want)
		if a.Scheme == port.ByProduct {
			match = want != ""
			for _, w := range strings.Fields(strings.ToLower(want)) {
				match = match && strings.Contains(strings.ToLower(got), w)
			}
		}
		if match {
			found = append(found, p)
		}
	}
	switch len(found) {
	case 1:
		return port.Address{Where: found[0].Path}, nil
	case 0:
		var there []string
		for _, p := range all {
			if v := of(p); v != "" {
				there = append(there, fmt.Sprintf("%s (%s)", v, p.Path))
			}
		}
		if len(there) == 0 {
			return a, fmt.Errorf("no port has the address %s: no adapter is plugged in that tells its %s", a, a.Scheme)
		}
		return a, fmt.Errorf("no port has the address %s: there are %s", a, strings.Join(there, ", "))
	}
	var both []string
	for _, p := range found {
		both = append(both, p.line())
	}
	return a, fmt.Errorf("the address %s is that of %d ports: %s. Tell them apart by serial number or by socket", a, len(found), strings.Join(both, "; "))
}

// line is a port in short.
func (p Entry) line() string {
	s := p.Path
	if p.Serial != "" {
		s += " serial " + p.Serial
	}
	if p.Socket != "" {
		s += " socket " + p.Socket
	}
	return s
}

// sortPorts puts ports in the order of their names, numbers as numbers.
func sortPorts(all []Entry) {
	key := func(s string) (string, int) {
		i := len(s)
		for i > 0 && s[i-1] >= '0' && s[i-1] <= '9' {
			i--
		}
		n := 0
		fmt.Sscan(s[i:], &n) // no number is 0
		return s[:i], n
	}
	sort.Slice(all, func(i, j int) bool {
		a, m := key(all[i].Path)
		b, n := key(all[j].Path)
		return a < b || a == b && m < n
	})
}

// Change is a port that has appeared or gone.
type Change struct {
	Appeared bool  `json:"appeared"`
	Port     Entry `json:"port"`
}

// differences are the changes from one listing to the next.
func differences(before, after []Entry) []Change {
	had, has := map[string]bool{}, map[string]bool{}
	for _, p := range before {
		had[p.Path] = true
	}
	var all []Change
	for _, p := range after {
		has[p.Path] = true
		if !had[p.Path] {
			all = append(all, Change{true, p})
		}
	}
	for _, p := range before {
		if !has[p.Path] {
			all = append(all, Change{false, p})
		}
	}
	return all
}

// tellChanges lists the ports anew, tells what has changed and returns the new
// listing.
func tellChanges(before []Entry, tell func(Change)) ([]Entry, error) {
	after, err := List()
	if err != nil {
		return nil, err
	}
	for _, c := range differences(before, after) {
		tell(c)
	}
	return after, nil
}
