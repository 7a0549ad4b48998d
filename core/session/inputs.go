package session

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"uparrot/core/procedure"
	"uparrot/core/source"
	"uparrot/core/source/toml"
	"uparrot/core/text"
)

// Inputs are the values of a procedure's inputs as they are given.
type Inputs struct {
	Set  []string // NAME=VALUE each; these go before the file
	File string   // TOML, NAME = VALUE; "" for none
}

// Values are the values of all inputs, those that are not given by their defaults.
func (g Inputs) Values(file *procedure.File) (map[string]any, error) {
	given, err := g.gather(file)
	if err != nil {
		return nil, err
	}
	values := map[string]any{}
	var missing, lacks []string
	for _, in := range file.Inputs {
		one, ok := given[in.Name]
		switch {
		case in.Pool != "":
			continue // it is drawn when the run begins
		case !ok && in.Default == nil:
			m := "--set " + in.Name + "=..."
			lacks = append(lacks, m)
			if in.About != "" {
				m += "  (" + in.About + ")"
			}
			missing = append(missing, m)
			continue
		case !ok:
			one = givenValue{text: *in.Default}
		}
		v, err := in.Value(one.text)
		if err != nil {
			return nil, misuse("%s: %v", one.from, err)
		}
		values[in.Name] = v
	}
	if len(missing) > 0 {
		return nil, &Misuse{What: fmt.Sprintf("the procedure needs %s:\n    %s", text.Count(len(missing), "more value"), strings.Join(missing, "\n    ")), Lacks: strings.Join(lacks, " ")}
	}
	return values, nil
}

// givenValue is a value as it was written, and where.
type givenValue struct{ text, from string }

func (g Inputs) gather(file *procedure.File) (map[string]givenValue, error) {
	given := map[string]givenValue{}
	var names []string
	for _, in := range file.Inputs {
		names = append(names, in.Name)
	}
	give := func(where, name, v string) error {
		if i := slices.IndexFunc(file.Inputs, func(in *procedure.Input) bool { return in.Name == name && in.Pool != "" }); i >= 0 {
			return misuse("%s: %s comes from the pool %q, which gives each value once: leave it out", where, name, file.Inputs[i].Pool)
		}
		for _, n := range names {
			if n == name {
				given[name] = givenValue{v, where}
				return nil
			}
		}
		hint := "It has no inputs."
		if len(names) > 0 {
			hint = source.DidYouMean(name, names)
		}
		return misuse("%s: the procedure has no input %q. %s", where, name, hint)
	}
	if g.File != "" {
		values := map[string]any{}
		doc, err := toml.Read(g.File, &values)
		if err != nil {
			return nil, misuse("--set-file: %v", err)
		}
		if err := doc.Mistakes.Err(); err != nil {
			return nil, err
		}
		for name, v := range values {
			if err := give("--set-file "+g.File, name, fmt.Sprint(v)); err != nil {
				return nil, err
			}
		}
	}
	for _, s := range g.Set {
		name, v, ok := strings.Cut(s, "=")
		if !ok {
			return nil, misuse("--set %s: wanted NAME=VALUE", s)
		}
		if err := give("--set "+s, name, v); err != nil {
			return nil, err
		}
	}
	return given, nil
}

// Secrets is where a procedure's secrets come from.
type Secrets struct {
	Files []string // NAME=FILE each

	// Lookup is asked for a name such as UPARROT_CODE; nil is the environment.
	Lookup func(name string) string
	// Ask asks a person, without echo; nil if nobody is there.
	Ask func(*procedure.Secret) (string, error)
}

// files are the files of secrets, by their names.
func (g Secrets) files() (map[string]string, error) {
	files := map[string]string{}
	for _, s := range g.Files {
		name, path, ok := strings.Cut(s, "=")
		if !ok {
			return nil, misuse("--secret-file %s: wanted NAME=FILE", s)
		}
		files[name] = path
	}
	return files, nil
}

// find looks for a secret in its file or in the environment; "" if it is in neither.
func (g Secrets) find(name string, files map[string]string) (string, error) {
	if path, ok := files[name]; ok {
		text, err := source.ReadFile(path)
		if err != nil {
			return "", misuse("read the secret %s: %v", name, err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	if g.Lookup != nil {
		return g.Lookup(secretKey(name)), nil
	}
	return os.Getenv(secretKey(name)), nil
}

// secretKey is the name of a secret in the environment.
func secretKey(name string) string { return "UPARROT_" + strings.ToUpper(name) }

func putSecret(name string) string {
	return fmt.Sprintf("put it into the environment as %s, or into a file named by --secret-file %s=FILE", secretKey(name), name)
}

// Value is one secret by its name.
func (g Secrets) Value(name string) (string, error) {
	files, err := g.files()
	if err != nil {
		return "", err
	}
	v, err := g.find(name, files)
	if err == nil && v == "" {
		err = misuse("there is no secret %s: %s", name, putSecret(name))
	}
	return v, err
}

// Into adds the secrets to a procedure's values: from files, from where Lookup
// looks, or from the person.
func (g Secrets) Into(values map[string]any, file *procedure.File) error {
	files, err := g.files()
	if err != nil {
		return err
	}
	for _, s := range file.Secrets {
		if s.Pool != "" {
			continue
		}
		v, err := g.find(s.Name, files)
		_, named := files[s.Name]
		delete(files, s.Name)
		if v == "" && err == nil && !named && g.Ask != nil {
			v, err = g.Ask(s)
		}
		if err != nil {
			return err
		}
		if v == "" {
			return misuse("the procedure needs the secret %s: %s", s.Name, putSecret(s.Name))
		}
		values[s.Name] = v
	}
	for name := range files {
		return misuse("--secret-file: the procedure has no secret %q", name)
	}
	return nil
}
