package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/bench"
	"uparrot/core/perform"
	"uparrot/core/procedure"
	"uparrot/core/session"
	"uparrot/core/source"
)

// procedureFlags are those of every command about one procedure: where it is performed, with which
// values, and what is left behind.
type procedureFlags struct {
	ports    portFlags
	keeps    evidenceFlags
	files    outputs
	where    []string
	inputs   session.Inputs
	operator string
	answers  string
	record   string // of an earlier run
	as       string
	outFile  string
	units    string // a table of units; "" for one run
	slots    string // of the bench that work at once; "" for none
}

// addresses are the ports that --port gives, by the procedure's names.
func (c *procedureFlags) addresses(cmd *cobra.Command, file *procedure.File) (map[string]string, error) {
	at := map[string]string{}
	var names []string
	for _, p := range file.Ports {
		names = append(names, p.Name)
	}
	for _, w := range c.where {
		name, address, ok := strings.Cut(w, "=")
		if !ok && len(names) == 1 {
			name, address = names[0], w
		} else if !ok {
			return nil, usage(cmd, "--port %s: the procedure has several ports, so wanted NAME=ADDRESS", w)
		}
		if !slices.Contains(names, name) {
			return nil, usage(cmd, "--port %s: the procedure has no port %q. %s", w, name, source.DidYouMean(name, names))
		}
		at[name] = address
	}
	return at, nil
}

// person is who answers a procedure's questions; nil means nobody.
func (c *procedureFlags) person(a *app, cmd *cobra.Command) (perform.Operator, error) {
	if c.answers != "" {
		answers, err := perform.ReadAnswers(c.answers)
		if err != nil {
			return nil, asUsage(err)
		}
		return answers, nil
	}
	switch c.operator {
	case "ask":
		return &person{app: a}, nil
	case "yes":
		return perform.Agreeable{}, nil
	case "none":
		return nil, nil
	}
	return nil, usage(cmd, "--operator %s: %s", c.operator, source.DidYouMean(c.operator, []string{"ask", "yes", "none"}))
}

// chosenSlots are the slots of the bench that are named.
func (c *procedureFlags) chosenSlots(b *bench.Bench) ([]bench.Slot, error) {
	if b == nil || len(b.Slots) == 0 {
		return nil, &session.Misuse{What: "--slots: the bench has no slots: write tables such as [slot.1] with radio = \"valley\""}
	}
	if c.slots == "all" {
		return b.Slots, nil
	}
	var names []string
	for _, s := range b.Slots {
		names = append(names, s.Name)
	}
	var chosen []bench.Slot
	for _, name := range strings.Split(c.slots, ",") {
		i := slices.Index(names, strings.TrimSpace(name))
		if i < 0 {
			return nil, &session.Misuse{What: fmt.Sprintf("--slots: the bench has no slot %q. %s", name, source.DidYouMean(name, append(names, "all")))}
		}
		chosen = append(chosen, b.Slots[i])
	}
	return chosen, nil
}
