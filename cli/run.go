package cli

import (
	"errors"
	"path/filepath"
	"sort"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/source"
	"uparrot/core/station"
)

// runFlags are the flags of run as given.
type runFlags struct {
	ports    portFlags
	where    []string
	set      []string
	setFile  string
	secrets  []string
	only     []string
	from     string
	repeat   string
	operator string
	answers  string
	evidence evidenceFlags
	plan     bool
	quiet    bool
	hands    perform.Operator // instead of a person; nil for none
}

func (a *app) run() *cobra.Command {
	var f runFlags
	cmd := &cobra.Command{
		Use:   "run PROCEDURE",
		Short: "Performs a procedure and checks every answer",
		Long: `Performs a procedure at the ports that the bench names, or that --port gives.
A secret is taken from the environment (UPARROT_ and its name in capitals), from
the file that --secret-file names, or is asked for without echo.

With --only, --from and --repeat-failed the other steps are left out, except those
that the procedure marks as needed or always.`,
		Example: "uparrot run commission.parrot --bench larkfell.toml --port valley --set address=3",
		Args:    args(1, 1, "one procedure"),
		RunE: func(cmd *cobra.Command, args []string) error {
			proc, err := procedure.Read(args[0])
			if err != nil {
				return asUsage(err)
			}
			if len(proc.Steps) == 0 {
				return usage(cmd, "%s has routines but no steps: it is there to be included", args[0])
			}
			a.warn(proc.Warnings)
			values, err := f.values(cmd, proc)
			if err != nil {
				return err
			}
			chosen, err := f.chosen(cmd, proc)
			if err != nil {
				return err
			}
			if f.plan {
				return a.plan(proc, values, chosen)
			}
			ps, err := f.ports.read(cmd)
			if err != nil {
				return err
			}
			res, err := a.perform(cmd, ps, proc, f, values, chosen)
			return withVerdict(res.Verdict, err)
		},
	}
	f.ports.add(cmd)
	fl := cmd.Flags()
	fl.StringArrayVar(&f.where, "port", nil, "where a port of the procedure is: NAME=ADDRESS or NAME=NAME on the bench; with one port the address alone will do")
	fl.StringArrayVar(&f.set, "set", nil, "value of an input: NAME=VALUE")
	fl.StringVar(&f.setFile, "set-file", "", "values of inputs from a TOML file of NAME = VALUE; --set goes before it")
	fl.StringArrayVar(&f.secrets, "secret-file", nil, "file that holds a secret: NAME=FILE")
	fl.StringArrayVar(&f.only, "only", nil, "perform only this step: its title or number")
	fl.StringVar(&f.from, "from", "", "perform from this step on: its title or number")
	fl.StringVar(&f.repeat, "repeat-failed", "", "perform only what failed or was not tested in this record")
	fl.StringVar(&f.operator, "operator", "ask", "who answers questions: ask, yes, or none (such steps are untested)")
	fl.StringVar(&f.answers, "answers", "", "answers to questions from a TOML file of \"QUESTION\" = ANSWER")
	f.evidence.add(cmd)
	fl.BoolVar(&f.plan, "plan", false, "print what would be said, and open no port")
	fl.BoolVar(&a.json, "json", false, "print the result as JSON")
	fl.BoolVar(&f.quiet, "quiet", false, "no account while it runs")
	return cmd
}

// perform performs a procedure, tells of it and keeps its record.
func (a *app) perform(cmd *cobra.Command, ps *ports, proc *procedure.File, f runFlags, values map[string]any, chosen map[string]bool) (res perform.Result, err error) {
	if err := f.secretValues(cmd, a, proc, values); err != nil {
		return res, err
	}
	stations, err := ps.stations(cmd, proc, f.where, values)
	if err != nil {
		return res, err
	}
	operator, err := f.person(cmd, a)
	if err != nil {
		return res, err
	}
	if in, ok := values["unit"]; ok && f.evidence.unit == "" {
		f.evidence.unit = procedure.Text(in)
	}
	e, err := a.evidence(f.evidence, "run", proc.Title, ps, list(proc, stations), f.files(proc)...)
	if err != nil {
		return res, err
	}
	e.quiet = e.quiet || f.quiet
	for _, s := range proc.Secrets {
		e.w.Hide(values[s.Name].(string))
	}
	r := &perform.Run{Procedure: proc, Stations: stations, Values: values, Record: e.w, Chosen: chosen, Operator: operator}
	folder := "." // where nobody says, a record lies where nobody looks for a file
	if f.evidence.record != "" {
		folder = filepath.Dir(f.evidence.record)
	}
	r.Keep = func(name string, data []byte) (string, error) { return keepFile(folder, name, data) }
	if !f.quiet {
		r.Observe = a.account(proc, stations, values)
	}
	res = r.Do(cmd.Context())
	a.err.end()
	res.Run, res.Record = e.origin.Run, e.path
	return res, e.end(errors.Join(res.Err, a.result(res, proc)))
}

// list are the stations in the order of the procedure's ports.
func list(proc *procedure.File, stations map[string]*station.Station) []*station.Station {
	var all []*station.Station
	for _, p := range proc.Ports {
		all = append(all, stations[p.Name])
	}
	return all
}

// files are those that a run reads besides the bench and the phrasebooks.
func (f *runFlags) files(proc *procedure.File) []string {
	included := []string{}
	for path := range proc.Texts {
		if path != proc.Path {
			included = append(included, path)
		}
	}
	sort.Strings(included)
	return append(append([]string{proc.Path}, included...), f.setFile, f.answers)
}

// chosen are the titles of the steps to perform; nil means all.
func (f *runFlags) chosen(cmd *cobra.Command, proc *procedure.File) (map[string]bool, error) {
	var titles []string
	for _, s := range proc.Steps {
		titles = append(titles, s.Title)
	}
	find := func(flag, word string) (int, error) {
		for i, t := range titles {
			if t == word {
				return i, nil
			}
		}
		if n, err := strconv.Atoi(word); err == nil && n >= 1 && n <= len(titles) {
			return n - 1, nil
		}
		return 0, usage(cmd, "--%s: the procedure has no step %q. %s", flag, word, source.DidYouMean(word, titles))
	}
	switch {
	case f.from != "" && len(f.only) > 0, f.repeat != "" && f.from+strings.Join(f.only, "") != "":
		return nil, usage(cmd, "--only, --from and --repeat-failed exclude each other: give one of them")
	case f.repeat != "":
		return notPassed(f.repeat, titles)
	case f.from != "":
		i, err := find("from", f.from)
		if err != nil {
			return nil, err
		}
		return setOf(titles[i:]), nil
	case len(f.only) > 0:
		chosen := map[string]bool{}
		for _, word := range f.only {
			i, err := find("only", word)
			if err != nil {
				return nil, err
			}
			chosen[titles[i]] = true
		}
		return chosen, nil
	}
	return nil, nil
}

func setOf(list []string) map[string]bool {
	m := map[string]bool{}
	for _, s := range list {
		m[s] = true
	}
	return m
}

// stations finds the ports of a procedure.
func (ps *ports) stations(cmd *cobra.Command, proc *procedure.File, where []string, values map[string]any) (map[string]*station.Station, error) {
	at := map[string]string{}
	var names []string
	for _, p := range proc.Ports {
		names = append(names, p.Name)
	}
	for _, w := range where {
		name, address, ok := strings.Cut(w, "=")
		if !ok && len(proc.Ports) == 1 {
			name, address = proc.Ports[0].Name, w
		} else if !ok {
			return nil, usage(cmd, "--port %s: the procedure has several ports, so wanted NAME=ADDRESS", w)
		}
		at[name] = address
		if near := source.DidYouMean(name, names); !strings.Contains(" "+strings.Join(names, " ")+" ", " "+name+" ") {
			return nil, usage(cmd, "--port %s: the procedure has no port %q. %s", w, name, near)
		}
	}
	stations := map[string]*station.Station{}
	used := map[string]string{}
	for _, p := range proc.Ports {
		address, ok := at[p.Name]
		if !ok && p.Socket != "" && (ps.bench == nil || !onBench(ps, p.Name)) {
			where, err := p.At.Said.Fill(func(source string) (string, error) {
				v, err := p.At.Exprs[source].Run(values)
				return procedure.Text(v), err
			})
			if err != nil {
				return nil, usage(cmd, "the port %s: %v", p.Name, err)
			}
			address, ok = p.Socket+"-listen://"+where, true
		}
		if !ok {
			address = p.Name
			if ps.bench == nil {
				return nil, usage(cmd, "where is the procedure's port %s? Give --port %s=ADDRESS, or a bench that names it with --bench", p.Name, p.Name)
			}
			if !onBench(ps, p.Name) {
				return nil, usage(cmd, "the bench %s has no port %s: say which it is with --port %s=NAME. On the bench: %s", ps.bench.File, p.Name, p.Name, strings.Join(ps.bench.Names(), ", "))
			}
		}
		s, err := ps.station(address, p.Setup, p.Phrasebook)
		if err != nil {
			return nil, err
		}
		if other, ok := used[s.Address]; ok {
			return nil, usage(cmd, "the ports %s and %s are both at %s", other, p.Name, s.Address)
		}
		used[s.Address] = p.Name
		s.Name = p.Name
		stations[p.Name] = s
	}
	return stations, nil
}

func onBench(ps *ports, name string) bool {
	_, ok := ps.bench.Port(name)
	return ok
}
