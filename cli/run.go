package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/dialog"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/source"
	"uparrot/core/station"
	"uparrot/core/verdict"
)

func (a *app) run() *cobra.Command {
	var (
		flags  portFlags
		where  []string
		set    []string
		record string
		quiet  bool
	)
	cmd := &cobra.Command{
		Use:   "run PROCEDURE",
		Short: "Performs a procedure and checks every answer",
		Long: `Performs a procedure at the ports that the bench names, or that --port gives.
A secret is taken from the environment: UPARROT_ and its name in capitals.`,
		Example: "uparrot run commission.parrot --bench larkfell.toml --port valley --set address=3",
		Args:    args(1, 1, "one procedure"),
		RunE: func(cmd *cobra.Command, args []string) error {
			proc, err := procedure.Read(args[0])
			if err != nil {
				return asUsage(err)
			}
			a.warn(proc.Warnings)
			ps, err := flags.read(cmd)
			if err != nil {
				return err
			}
			values, err := inputs(cmd, proc, set)
			if err != nil {
				return err
			}
			stations, err := ps.stations(cmd, proc, where)
			if err != nil {
				return err
			}
			w, err := recordTo(record)
			if err != nil {
				return err
			}
			for _, s := range proc.Secrets {
				w.Hide(values[s.Name].(string))
			}
			r := &perform.Run{Procedure: proc, Stations: stations, Values: values, Record: w}
			if !quiet {
				r.Observe = a.account(proc, stations, values)
			}
			res := r.Do(cmd.Context())
			err = res.Err
			if perr := a.result(res, proc); perr != nil {
				err = errors.Join(err, perr)
			}
			if err == nil {
				err = verdictError(res.Verdict)
			}
			return finishRecord(w, err)
		},
	}
	flags.add(cmd)
	cmd.Flags().StringArrayVar(&where, "port", nil, "where a port of the procedure is: NAME=ADDRESS or NAME=NAME on the bench; with one port the address alone will do")
	cmd.Flags().StringArrayVar(&set, "set", nil, "value of an input: NAME=VALUE")
	cmd.Flags().StringVar(&record, "record", "", "keep everything said and heard in this file")
	cmd.Flags().BoolVar(&a.json, "json", false, "print the result as JSON")
	cmd.Flags().BoolVar(&quiet, "quiet", false, "no account while it runs")
	return cmd
}

// inputs gathers the values of a procedure's inputs and secrets.
func inputs(cmd *cobra.Command, proc *procedure.File, set []string) (map[string]any, error) {
	given := map[string]string{}
	var names []string
	for _, in := range proc.Inputs {
		names = append(names, in.Name)
	}
	for _, s := range set {
		name, v, ok := strings.Cut(s, "=")
		if !ok {
			return nil, usage(cmd, "--set %s: wanted NAME=VALUE", s)
		}
		known := false
		for _, n := range names {
			known = known || n == name
		}
		if !known {
			return nil, usage(cmd, "--set %s: the procedure has no input %q. %s", s, name, source.DidYouMean(name, names))
		}
		given[name] = v
	}
	values := map[string]any{}
	var missing []string
	for _, in := range proc.Inputs {
		text, ok := given[in.Name]
		switch {
		case !ok && in.Default == nil:
			m := "--set " + in.Name + "=..."
			if in.About != "" {
				m += "  (" + in.About + ")"
			}
			missing = append(missing, m)
			continue
		case !ok:
			text = *in.Default
		}
		v, err := in.Value(text)
		if err != nil {
			return nil, usage(cmd, "--set %s=%s: %v", in.Name, text, err)
		}
		values[in.Name] = v
	}
	if len(missing) > 0 {
		return nil, usage(cmd, "the procedure needs %s:\n    %s", count(len(missing), "more value"), strings.Join(missing, "\n    "))
	}
	for _, s := range proc.Secrets {
		key := "UPARROT_" + strings.ToUpper(s.Name)
		v := os.Getenv(key)
		if v == "" {
			return nil, usage(cmd, "the procedure needs the secret %s: put it into the environment as %s", s.Name, key)
		}
		values[s.Name] = v
	}
	return values, nil
}

// stations finds the ports of a procedure.
func (ps *ports) stations(cmd *cobra.Command, proc *procedure.File, where []string) (map[string]*station.Station, error) {
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
		if !ok {
			address = p.Name
			if ps.bench == nil {
				return nil, usage(cmd, "where is the procedure's port %s? Give --port %s=ADDRESS, or a bench that names it with --bench", p.Name, p.Name)
			}
			if _, ok := ps.bench.Port(p.Name); !ok {
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

// account tells a person what happens while a procedure runs.
func (a *app) account(proc *procedure.File, stations map[string]*station.Station, values map[string]any) func(perform.Event) {
	s := a.err
	s.line("%s", s.bold(safe(proc.Title)))
	if proc.About != "" {
		s.line("%s", safe(proc.About))
	}
	for _, p := range proc.Ports {
		st := stations[p.Name]
		s.line("  port %s is %s (%s)", p.Name, st.Address, st.Setup.Words())
	}
	for _, in := range proc.Inputs {
		s.line("  %s is %s", in.Name, safe(procedure.Text(values[in.Name])))
	}
	many := len(proc.Ports) > 1
	at := func(e perform.Event) string {
		if many {
			return fmt.Sprintf("%-8s ", e.Port)
		}
		return ""
	}
	return func(e perform.Event) {
		switch e.Kind {
		case perform.StepBegan:
			s.line("")
			s.line("%s", s.bold(fmt.Sprintf("%d  %s", e.Number, safe(e.Step.Title))))
		case perform.Said:
			s.line("   %ssaid   %s", at(e), oneLine(e.Text))
		case perform.Heard:
			s.line("   %sheard  %s", at(e), oneLine(e.Text))
		case perform.Checked:
			var vs []string
			for _, v := range e.Values {
				vs = append(vs, v.Name+" = "+procedure.Text(v.Value))
			}
			s.line("   check  %s  %s", oneLine(e.Text), s.faint(oneLine(strings.Join(vs, ", "))))
		case perform.Judged:
			r := e.Limit
			s.line("   limit  %s: %s within %s", safe(r.What), perform.WithUnit(procedure.Text(r.Value), r.Unit), perform.WithUnit(r.Range(), r.Unit))
		case perform.TryEnded:
			s.line("   try %d of %d failed: %s", e.Try, e.Step.Tries, safe(e.Err.Error()))
		case perform.StepEnded:
			s.line("   %s in %s", s.verdict(e.Verdict, 0), took(e.Took))
			if e.Err != nil {
				a.explain(e.Err, stations)
			}
		}
	}
}

// explain says all that is known of a failure.
func (a *app) explain(err error, stations map[string]*station.Station) {
	row := func(head, text string) { a.err.line("     %-9s %s", head, oneLine(text)) }
	if f, ok := errors.AsType[*perform.Failure](err); ok {
		row(fmt.Sprintf("line %d", f.Line), strings.TrimSpace(f.Text))
		if r, ok := errors.AsType[*dialog.Refused](err); ok {
			row("said", r.Said)
			row("heard", r.Heard)
			if f.Meaning != "" {
				row("means", f.Meaning)
			}
		}
	}
	ending := "crlf"
	if m, ok := errors.AsType[*dialog.Missed](err); ok {
		if m.Said != "" {
			row("said", m.Said)
		}
		for i, h := range m.Heard {
			row("heard", h)
			if i == m.Near {
				a.err.line("     %-9s %s^ parts here", "", strings.Repeat(" ", len([]rune(oneLine(h[:min(m.NearAt, len(h))])))))
			}
		}
		if m.Rest != "" {
			row("heard", m.Rest+"  (no line end)")
		}
		if m.Silent {
			row("heard", "nothing")
		}
		row("wanted", m.Wanted)
		if m.Within > 0 && !m.Next {
			row("waited", m.Within.String())
		}
		for _, s := range stations {
			if s.Address == m.Port && s.Setup.Ending != "" {
				ending = s.Setup.Ending
			}
		}
	}
	if u, ok := errors.AsType[*dialog.Unwanted](err); ok {
		row("heard", u.Heard)
		row("unwanted", u.Pattern)
		if u.After > 0 {
			row("after", took(u.After))
		}
	}
	if f, ok := errors.AsType[*perform.Failure](err); ok && f.Counted != "" {
		row("counted", f.Counted+", which point to the speed, the frame or the wires")
	}
	var plain interface{ Unwrap() error }
	if errors.As(err, &plain) && isPlain(err) {
		row("why", plain.Unwrap().Error())
	}
	if advice := perform.Advice(err, ending); advice != "" {
		row("try", advice)
	}
}

// isPlain reports whether an error has no rows of its own in explain.
func isPlain(err error) bool {
	_, missed := errors.AsType[*dialog.Missed](err)
	_, refused := errors.AsType[*dialog.Refused](err)
	_, unwanted := errors.AsType[*dialog.Unwanted](err)
	return !missed && !refused && !unwanted
}

// result prints what came of a run: on stdout, as tables or JSON.
func (a *app) result(res perform.Result, proc *procedure.File) error {
	if a.json {
		return a.printJSON(res)
	}
	if res.Steps[0].Verdict == verdict.Untested && res.Err != nil {
		return nil // it did not begin: the error says why
	}
	s := newScreen(a.out)
	fmt.Fprintln(a.out)
	rows := [][]string{{"step", "verdict", "tries", "time"}}
	passed := 0
	for i, st := range res.Steps {
		tries, t := "", ""
		if st.Verdict != verdict.Untested {
			tries, t = fmt.Sprint(st.Tries), took(fromMS(st.TookMS))
		}
		if st.Verdict == verdict.Passed {
			passed++
		}
		rows = append(rows, []string{fmt.Sprintf("%d  %s", i+1, safe(st.Title)), s.verdict(st.Verdict, 0), tries, t})
	}
	table(a.out, rows)
	if len(res.Limits) > 0 {
		fmt.Fprintln(a.out)
		rows = [][]string{{"measurement", "value", "limits", "verdict"}}
		for _, l := range res.Limits {
			rows = append(rows, []string{safe(l.What), perform.WithUnit(procedure.Text(l.Value), l.Unit), perform.WithUnit(l.Range(), l.Unit), s.verdict(l.Verdict, 0)})
		}
		table(a.out, rows)
	}
	many := fmt.Sprintf("%d of %s passed", passed, count(len(res.Steps), "step"))
	if passed == len(res.Steps) {
		many = "all " + count(passed, "step")
	}
	fmt.Fprintf(a.out, "\n%s: %s, in %s\n", s.verdict(res.Verdict, 0), many, took(fromMS(res.TookMS)))
	for _, st := range res.Steps {
		if st.Err != nil {
			fmt.Fprintf(a.out, "%s: %s\n", safe(st.Title), safe(st.Why))
		}
	}
	return nil
}
