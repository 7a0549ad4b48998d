package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"sort"
	"strings"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source"
)

// Procedure is a procedure to be performed.
type Procedure struct {
	File    *procedure.File
	Ports   *Ports
	At      map[string]string // where its ports are, by name: an address, or a name on the bench; else the port's own name
	Values  map[string]any    // of its inputs and secrets
	Chosen  map[string]bool   // titles of the steps to perform; nil means all
	Earlier *Earlier          // an earlier run of it, which tells what steps left out would give; nil if there is none
	// Identity is what modules were found to say that they are, by the procedure's ports; may be nil.
	Identity  map[string]record.SettingValue
	Operator  perform.Operator // nil if nobody is there
	Asks      bool             // it is a person, who can be asked about what is odd
	OnFailure perform.Retry    // asked about steps that have failed; nil asks nobody
	Files     []string         // that values came from
	Keep      Keep
	Begun     func(*record.Stream) // is given what tells of all that happens, once that has begun; may be nil
	Command   string               // what is done, in the record; run unless said
	Measures  bool                 // where nothing was judged, what passed is measured
	Enough    <-chan struct{}      // ends a watch when it is closed; may be nil
	// Uses waits until a step may use what it shares with others; see [perform.Run]. May be nil.
	Uses func(ctx context.Context, names []string) (release func(), err error)

	// Watch is told of all that happens, once the ports are found; it is called with
	// the stations by the procedure's names. May be nil.
	Watch func(stations map[string]*bench.Station) func(record.Event)
}

// Do performs the procedure. The result is sealed: record and ledger say the same.
// Where it could not run, the error says why; errors of a step are in the result.
func (p *Procedure) Do(ctx context.Context) (res perform.Result, err error) {
	stations, err := p.stations(ctx)
	if err != nil {
		return perform.Result{}, err
	}
	if in, ok := p.Values["unit"]; ok && p.Keep.Unit == "" {
		p.Keep.Unit = procedure.Text(in)
	}
	drawn, back, err := p.draw(ctx)
	if err != nil {
		return perform.Result{}, err
	}
	defer func() {
		if res.Run == "" { // it has not begun
			err = errors.Join(err, back())
		}
	}()
	before, err := p.complete(stations)
	if err != nil {
		return perform.Result{}, err
	}
	var watch func(record.Event)
	if p.Watch != nil {
		watch = p.Watch(stations)
	}
	about := About{Command: cmp.Or(p.Command, "run"), Name: p.File.Title, Ports: p.Ports, Files: p.files()}
	for _, decl := range p.File.Ports {
		if st := stations[decl.Name]; st.Address != (port.Address{}) {
			about.Stations = append(about.Stations, st)
		}
	}
	s, err := Begin(ctx, p.Keep, about, watch)
	if err != nil {
		return perform.Result{}, err
	}
	if p.Begun != nil {
		p.Begun(s.Events)
	}
	for _, secret := range p.File.Secrets {
		s.Events.Hide(p.Values[secret.Name].(string))
	}
	folder := "." // where nobody says, a record lies where nobody looks for a file
	if p.Keep.Record != "" {
		folder = filepath.Dir(p.Keep.Record)
	}
	run := &perform.Run{
		Procedure: p.File, Stations: maps.Clone(stations), Values: p.Values, Unit: p.Keep.Unit, Passed: s.passed(p.File.Title), Asks: p.Asks, Events: s.Events, Chosen: p.Chosen, Before: before, Operator: p.Operator, OnFailure: p.OnFailure, Measures: p.Measures, Enough: p.Enough, Uses: p.Uses, Drawn: drawn, Identity: p.Identity,
		Keep: func(name string, data []byte) (string, error) { return keepFile(folder, name, data) },
	}
	res = run.Do(ctx)
	res.Run, res.Record = s.Run, s.Record
	if res.Unit == "" { // it has not said itself
		res.Unit = p.Keep.Unit
	}
	err = s.End()
	if res.Err != nil {
		err = res.Err
	}
	return res, err
}

// files are those that a run reads besides the bench and the phrasebooks.
func (p *Procedure) files() []string {
	included := []string{}
	for path := range p.File.Texts {
		if path != p.File.Path {
			included = append(included, path)
		}
	}
	sort.Strings(included)
	return append(append([]string{p.File.Path}, included...), p.Files...) // a procedure that is no file has no path, which is passed over
}

// Reads are all files that a run reads.
func (p *Procedure) Reads() []string {
	files := append(p.files(), p.Ports.Files()...)
	for _, decl := range p.File.Ports {
		if decl.Phrasebook != nil {
			files = append(files, decl.Phrasebook.File)
		}
	}
	return files
}

// stations finds the ports of the procedure.
func (p *Procedure) stations(ctx context.Context) (map[string]*bench.Station, error) {
	stations, unknown, err := p.places(ctx)
	if err == nil && len(unknown) > 0 {
		err = unknown[0]
	}
	if err == nil {
		err = p.settle(stations)
	}
	if err == nil {
		err = p.beforehand(stations)
	}
	return stations, err
}

// beforehand refuses what statements cannot do at these ports, before one is opened.
func (p *Procedure) beforehand(stations map[string]*bench.Station) (err error) {
	setup := func(port string) (s phrasebook.Setup, carrier, known bool) {
		st := stations[port]
		if st == nil {
			return s, false, false
		}
		return st.Setup, st.Phrasebook != nil && st.Phrasebook.Carrier != nil, true
	}
	for _, s := range p.File.Steps {
		if !p.performed(s.Title) {
			continue
		}
		p.File.Beforehand(s.Body, setup, func(n procedure.Node, what string) {
			err = cmp.Or(err, misuse("%s:%d: %s", n.At().File, n.At().Line, what))
		})
	}
	return err
}

// settle reads a procedure anew that gets or sets settings at ports whose phrasebooks only
// the bench names: now they are known.
func (p *Procedure) settle(stations map[string]*bench.Station) error {
	if !p.File.Late {
		return nil
	}
	books := map[string]*phrasebook.Phrasebook{}
	for _, decl := range p.File.Ports {
		if st := stations[decl.Name]; st != nil && decl.Phrasebook == nil {
			books[decl.Name] = st.Phrasebook
		}
	}
	file, err := procedure.ParseWith(p.File.Path, strings.Join(p.File.Texts[p.File.Path], "\n"), books)
	if err != nil {
		return err
	}
	if file.Late {
		return misuse("%s gets or sets settings, and no phrasebook is known of one of its ports: name it on the bench, with --phrasebook, or in the header", p.File.Path)
	}
	p.File = file
	return nil
}

// Plan checks all that can be known without opening a port. What would keep the
// procedure from being performed here and now is told in words: ports whose place
// nobody has named, and stand-ins that are not running.
func (p *Procedure) Plan(ctx context.Context) (missing []string, err error) {
	stations, unknown, err := p.places(ctx)
	if err == nil && len(unknown) == 0 {
		err = p.settle(stations)
	}
	if err == nil {
		err = p.beforehand(stations)
	}
	if err == nil {
		_, err = p.complete(stations)
	}
	names, pools := pooled(p.File)
	for i, name := range names {
		missing = append(missing, fmt.Sprintf("%s is drawn from the pool %q when the run begins", name, pools[i]))
	}
	for _, u := range unknown {
		missing = append(missing, u.Error())
	}
	return missing, err
}

// places finds the ports of the procedure; unknown are those that cannot be found now.
func (p *Procedure) places(ctx context.Context) (stations map[string]*bench.Station, unknown []error, err error) {
	stations = map[string]*bench.Station{}
	used := map[port.Address]string{}
	for _, decl := range p.File.Ports {
		where, err := p.where(ctx, decl)
		if u, ok := errors.AsType[*unnamed](err); ok {
			unknown = append(unknown, &u.Misuse)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if where == "" { // it is known only when it is first spoken at
			stations[decl.Name] = &bench.Station{Name: decl.Name, Setup: decl.Whole(), Phrasebook: decl.Phrasebook}
			continue
		}
		s, err := p.Ports.Station(where, decl.Setup, decl.Phrasebook)
		if u, ok := errors.AsType[*Unable](err); ok {
			unknown = append(unknown, u)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if other, ok := used[s.Address]; ok {
			return nil, nil, misuse("the ports %s and %s are both at %s", other, decl.Name, s.Address)
		}
		used[s.Address] = decl.Name
		s.Name = decl.Name
		stations[decl.Name] = s
	}
	return stations, unknown, nil
}

// unnamed says that nobody has said where a port is.
type unnamed struct{ Misuse }

// where is the address, or the name on the bench, of one of its ports; "" if that is
// known only when a step has given a value.
func (p *Procedure) where(ctx context.Context, decl *procedure.PortDecl) (string, error) {
	if at, ok := p.At[decl.Name]; ok {
		return at, nil
	}
	if decl.Socket != "" && !p.Ports.Named(decl.Name) {
		if !decl.AtKnown(p.Values) {
			return "", nil
		}
		where, err := decl.At.Said.Fill(func(source string) (string, error) {
			v, err := decl.At.Exprs[source].Run(ctx, p.Values)
			return procedure.Text(v), err
		})
		if err != nil {
			return "", misuse("the port %s: %v", decl.Name, err)
		}
		return decl.Address(where), nil
	}
	if p.Ports.Bench == nil {
		return "", &unnamed{Misuse{What: fmt.Sprintf("where is the procedure's port %s? Give --port %s=ADDRESS, or a bench that names it with --bench", decl.Name, decl.Name)}}
	}
	if !p.Ports.Named(decl.Name) {
		return "", &unnamed{Misuse{What: fmt.Sprintf("the bench %s has no port %s: say which it is with --port %s=NAME. On the bench: %s", p.Ports.Bench.File, decl.Name, decl.Name, strings.Join(p.Ports.Bench.Names(), ", "))}}
	}
	return decl.Name, nil
}

// StepsFrom are the titles of the steps to perform of a procedure: only those named,
// by title or number, or all from one on.
func StepsFrom(file *procedure.File, only []string, from string) (map[string]bool, error) {
	var titles []string
	for _, s := range file.Steps {
		titles = append(titles, s.Title)
	}
	chosen := map[string]bool{}
	for _, word := range only {
		i, err := findStep(titles, "only", word)
		if err != nil {
			return nil, err
		}
		chosen[titles[i]] = true
	}
	if from != "" {
		i, err := findStep(titles, "from", from)
		if err != nil {
			return nil, err
		}
		for _, t := range titles[i:] {
			chosen[t] = true
		}
	}
	return chosen, nil
}

func findStep(titles []string, flag, word string) (int, error) {
	n := 0
	if _, err := fmt.Sscanf(word, "%d", &n); err == nil && fmt.Sprint(n) == word && n >= 1 && n <= len(titles) {
		n--
	} else {
		n = -1
	}
	for i, t := range titles {
		if t == word {
			n = i
		}
	}
	if n < 0 {
		return 0, misuse("--%s: the procedure has no step %q. %s", flag, word, source.DidYouMeanOr(word, titles, "Its steps: "+quotedList(titles)+"."))
	}
	return n, nil
}

// quotedList is a list with each in quotes.
func quotedList(list []string) string {
	var all []string
	for _, one := range list {
		all = append(all, fmt.Sprintf("%q", one))
	}
	return strings.Join(all, ", ")
}

// keepFile writes a file that a procedure keeps, under a name that is free.
func keepFile(folder, name string, data []byte) (string, error) {
	f, err := record.NewFile(filepath.Join(folder, name))
	if err != nil {
		return "", fmt.Errorf("keep a file: %w", err)
	}
	_, err = f.Write(data)
	if err := errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("keep %s: %w", f.Name(), err)
	}
	return f.Name(), nil
}
