package run

import (
	"context"
	"fmt"
	"strings"

	"uparrot/cli/shell"
	"uparrot/core/procedure"
)

// printPlan prints what a procedure would say and wait for, without a port. Values
// that only the module can give stay as written.
func printPlan(sh *shell.Streams, ctx context.Context, proc *procedure.File, values map[string]any, chosen map[string]bool) error {
	s := shell.NewScreen(sh.Out)
	fmt.Fprintln(sh.Out, s.Bold(shell.Safe(proc.Title)))
	for _, l := range proc.Lets {
		if v, err := l.Expr.Run(ctx, values); err == nil {
			values[l.Name] = v
		}
	}
	for _, p := range proc.Ports {
		fmt.Fprintf(sh.Out, "  port %s: %s\n", p.Name, p.Whole().Words())
	}
	for i, step := range proc.Steps {
		mark := ""
		if chosen != nil && !chosen[step.Title] && !step.Needed && !step.Always {
			mark = "  (left out)"
		}
		fmt.Fprintf(sh.Out, "\n%s%s\n", s.Bold(fmt.Sprintf("%d  %s", i+1, shell.Safe(step.Title))), mark)
		if mark == "" {
			planned(sh, ctx, proc, step.Body, values, 1, procedure.Pos{})
		}
	}
	return nil
}

func planned(sh *shell.Streams, ctx context.Context, proc *procedure.File, list []procedure.Node, values map[string]any, depth int, within procedure.Pos) {
	for _, n := range list {
		say, is := n.(*procedure.Say)
		if n.At() == within && !is { // it stands in no file
			continue
		}
		line := strings.TrimSpace(proc.Text(n.At()))
		if is && say.Packet == nil {
			line = sayLine(ctx, say, values)
		}
		fmt.Fprintf(sh.Out, "%s%s\n", strings.Repeat("    ", depth), shell.OneLine(line))
		if let, ok := n.(*procedure.Let); ok {
			if v, err := let.Expr.Run(ctx, values); err == nil {
				values[let.Name] = v
			} else {
				delete(values, let.Name)
			}
		}
		for _, b := range procedure.Bodies(n) {
			if b.Head != nil {
				fmt.Fprintf(sh.Out, "%s%s\n", strings.Repeat("    ", depth), shell.OneLine(strings.TrimSpace(proc.Text(*b.Head))))
			}
			planned(sh, ctx, proc, b.Body, values, depth+1, n.At())
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
