package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// values gathers the values of a procedure's inputs.
func (f *runFlags) values(cmd *cobra.Command, proc *procedure.File) (map[string]any, error) {
	given, from := map[string]string{}, map[string]string{}
	var names []string
	for _, in := range proc.Inputs {
		names = append(names, in.Name)
	}
	give := func(where, name, v string) error {
		if !contains(names, name) {
			hint := "It has no inputs."
			if len(names) > 0 {
				hint = source.DidYouMean(name, names)
			}
			return usage(cmd, "%s: the procedure has no input %q. %s", where, name, hint)
		}
		given[name], from[name] = v, where
		return nil
	}
	if f.setFile != "" {
		file := map[string]any{}
		doc, err := source.ReadTOML(f.setFile, &file)
		if err != nil {
			return nil, asUsage(fmt.Errorf("--set-file: %w", err))
		}
		if err := doc.Mistakes.Err(); err != nil {
			return nil, err
		}
		for name, v := range file {
			if err := give("--set-file "+f.setFile, name, fmt.Sprint(v)); err != nil {
				return nil, err
			}
		}
	}
	for _, s := range f.set {
		name, v, ok := strings.Cut(s, "=")
		if !ok {
			return nil, usage(cmd, "--set %s: wanted NAME=VALUE", s)
		}
		if err := give("--set "+s, name, v); err != nil {
			return nil, err
		}
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
			return nil, usage(cmd, "%s: %v", from[in.Name], err)
		}
		values[in.Name] = v
	}
	if len(missing) > 0 {
		return nil, usage(cmd, "the procedure needs %s:\n    %s", count(len(missing), "more value"), strings.Join(missing, "\n    "))
	}
	return values, nil
}

// secretValues gathers the procedure's secrets: from files, from the environment,
// or from the person, without echo.
func (f *runFlags) secretValues(cmd *cobra.Command, a *app, proc *procedure.File, values map[string]any) error {
	files := map[string]string{}
	for _, s := range f.secrets {
		name, path, ok := strings.Cut(s, "=")
		if !ok {
			return usage(cmd, "--secret-file %s: wanted NAME=FILE", s)
		}
		files[name] = path
	}
	for _, s := range proc.Secrets {
		key := "UPARROT_" + strings.ToUpper(s.Name)
		v := os.Getenv(key)
		path, named := files[s.Name]
		delete(files, s.Name)
		switch in, terminal := a.in.(*os.File); {
		case named:
			text, err := os.ReadFile(path)
			if err != nil {
				return &errUsage{what: fmt.Sprintf("read the secret %s: %v", s.Name, err)}
			}
			v = strings.TrimRight(string(text), "\r\n")
		case v == "" && terminal && term.IsTerminal(int(in.Fd())):
			text, err := a.askSecret(in, s)
			if err != nil {
				return err
			}
			v = text
		}
		if v == "" {
			return usage(cmd, "the procedure needs the secret %s: put it into the environment as %s, or into a file named by --secret-file %s=FILE", s.Name, key, s.Name)
		}
		values[s.Name] = v
	}
	for name := range files {
		return usage(cmd, "--secret-file: the procedure has no secret %q", name)
	}
	return nil
}

func (a *app) askSecret(in *os.File, s *procedure.Secret) (string, error) {
	what := s.Name
	if s.About != "" {
		what += " (" + s.About + ")"
	}
	fmt.Fprintf(a.err.w, "%s, not shown: ", safe(what))
	text, err := term.ReadPassword(int(in.Fd()))
	fmt.Fprintln(a.err.w)
	if err != nil {
		return "", fmt.Errorf("read the secret %s: %w", s.Name, err)
	}
	return string(text), nil
}

// notPassed are the titles of the steps that did not pass in a record, or do not
// stand in it.
func notPassed(path string, titles []string) (map[string]bool, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, &errUsage{what: fmt.Sprintf("--repeat-failed: %v", err)}
	}
	defer f.Close()
	last := map[string]verdict.Verdict{}
	if _, err := record.Read(f, func(e record.Event) error {
		if e.Kind == record.Step && e.Verdict != "" {
			last[e.Step] = verdict.Verdict(e.Verdict)
			if e.Why == perform.LeftOut { // not tested either
				last[e.Step] = verdict.Untested
			}
		}
		return nil
	}); err != nil {
		return nil, &errUsage{what: fmt.Sprintf("--repeat-failed %s: %v", path, err)}
	}
	chosen := map[string]bool{}
	for _, t := range titles {
		if v := last[t]; v != verdict.Passed && v != verdict.Skipped {
			chosen[t] = true
		}
	}
	if len(chosen) == 0 {
		return nil, &errUsage{what: fmt.Sprintf("--repeat-failed %s: every step has passed there, so there is nothing to repeat", path)}
	}
	return chosen, nil
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
