package cli

import (
	"context"
	"fmt"
	"strings"

	"uparrot/core/procedure"
)

// printPlan prints what a procedure would say and wait for, without a port. Values
// that only the module can give stay as written.
func (a *app) printPlan(ctx context.Context, proc *procedure.File, values map[string]any, chosen map[string]bool) error {
	s := newScreen(a.out)
	fmt.Fprintln(a.out, s.bold(safe(proc.Title)))
	for _, l := range proc.Lets {
		if v, err := l.Expr.Run(ctx, values); err == nil {
			values[l.Name] = v
		}
	}
	for _, p := range proc.Ports {
		fmt.Fprintf(a.out, "  port %s: %s\n", p.Name, p.Whole().Words())
	}
	for i, step := range proc.Steps {
		mark := ""
		if chosen != nil && !chosen[step.Title] && !step.Needed && !step.Always {
			mark = "  (left out)"
		}
		fmt.Fprintf(a.out, "\n%s%s\n", s.bold(fmt.Sprintf("%d  %s", i+1, safe(step.Title))), mark)
		if mark == "" {
			a.planned(ctx, proc, step.Body, values, 1, procedure.Pos{})
		}
	}
	return nil
}

func (a *app) planned(ctx context.Context, proc *procedure.File, list []procedure.Node, values map[string]any, depth int, within procedure.Pos) {
	for _, n := range list {
		say, is := n.(*procedure.Say)
		if n.At() == within && !is { // it stands in no file
			continue
		}
		line := strings.TrimSpace(proc.Text(n.At()))
		if is && say.Packet == nil {
			line = sayLine(ctx, say, values)
		}
		fmt.Fprintf(a.out, "%s%s\n", strings.Repeat("    ", depth), oneLine(line))
		if let, ok := n.(*procedure.Let); ok {
			if v, err := let.Expr.Run(ctx, values); err == nil {
				values[let.Name] = v
			} else {
				delete(values, let.Name)
			}
		}
		for _, b := range procedure.Bodies(n) {
			if b.Head != nil {
				fmt.Fprintf(a.out, "%s%s\n", strings.Repeat("    ", depth), oneLine(strings.TrimSpace(proc.Text(*b.Head))))
			}
			a.planned(ctx, proc, b.Body, values, depth+1, n.At())
		}
	}
}

// sayLine is a say with the values that are known.
func sayLine(ctx context.Context, n *procedure.Say, values map[string]any) string {
	text, err := n.Text.Fill(func(source string) (string, error) {
		v, err := n.Exprs[source].Run(ctx, values)
		if err != nil {
			return "{" + source + "}", nil
		}
		return procedure.Text(v), nil
	})
	if err != nil {
		text = n.Text.String()
	}
	word := "say"
	if n.Bytes {
		word = "say bytes"
	}
	return fmt.Sprintf("%s %s: %s", word, n.Port, text)
}
