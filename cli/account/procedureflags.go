package account

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/session"
	"uparrot/core/source"
)

// ProcedureFlags are those of every command about one procedure: where it is performed, with which
// values, and what is left behind.
type ProcedureFlags struct {
	Ports    shell.PortFlags
	Keeps    shell.EvidenceFlags
	Files    shell.Outputs
	Where    []string
	Inputs   session.Inputs
	Operator string
	Answers  string
	Record   string // of an earlier run
	As       string
	OutFile  string
	Units    string // a table of units; "" for one run
	Slots    string // of the bench that work at once; "" for none
}

// Addresses are the ports that --port gives, by the procedure's names.
func (c *ProcedureFlags) Addresses(cmd *cobra.Command, file *procedure.File) (map[string]string, error) {
	at := map[string]string{}
	var names []string
	for _, p := range file.Ports {
		names = append(names, p.Name)
	}
	for _, w := range c.Where {
		name, address, ok := strings.Cut(w, "=")
		if !ok && len(names) == 1 {
			name, address = names[0], w
		} else if !ok {
			return nil, shell.Usage(cmd, "--port %s: the procedure has several ports, so wanted NAME=ADDRESS", w)
		}
		if !slices.Contains(names, name) {
			return nil, shell.Usage(cmd, "--port %s: the procedure has no port %q. %s", w, name, source.DidYouMean(name, names))
		}
		if other, twice := at[name]; twice {
			return nil, shell.Usage(cmd, "--port: %s is said to be at %s, and at %s: give it once", name, other, address)
		}
		at[name] = address
	}
	return at, nil
}

// Person is who answers a procedure's questions; nil means nobody.
func (c *ProcedureFlags) Person(a *shell.Streams, cmd *cobra.Command) (perform.Operator, error) {
	if c.Answers != "" {
		answers, err := perform.ReadAnswers(c.Answers)
		if err != nil {
			return nil, shell.AsUsage(err)
		}
		return answers, nil
	}
	switch c.Operator {
	case "ask":
		return &Person{App: a}, nil
	case "yes":
		return perform.Agreeable{}, nil
	case "none":
		return nil, nil
	}
	return nil, shell.Usage(cmd, "--operator %s: %s", c.Operator, source.DidYouMean(c.Operator, []string{"ask", "yes", "none"}))
}

// ChosenSlots are the slots of the bench that are named.
func (c *ProcedureFlags) ChosenSlots(b *bench.Bench) ([]bench.Slot, error) {
	if b == nil || len(b.Slots) == 0 {
		return nil, &session.Misuse{What: "--slots: the bench has no slots: write tables such as [slot.1] with radio = \"valley\""}
	}
	if c.Slots == "all" {
		return b.Slots, nil
	}
	var names []string
	for _, s := range b.Slots {
		names = append(names, s.Name)
	}
	var chosen []bench.Slot
	for _, name := range strings.Split(c.Slots, ",") {
		i := slices.Index(names, strings.TrimSpace(name))
		if i < 0 {
			return nil, &session.Misuse{What: fmt.Sprintf("--slots: the bench has no slot %q. %s", name, source.DidYouMean(name, append(names, "all")))}
		}
		chosen = append(chosen, b.Slots[i])
	}
	return chosen, nil
}
