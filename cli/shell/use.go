package shell

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/session"
	"uparrot/core/text"
)

var plainWord = text.Regexp(`^[A-Za-z0-9_./:=,%@+-]+$`)

// ShellWord is a word as a shell takes it.
func ShellWord(w string) string {
	if plainWord().MatchString(w) {
		return w
	}
	return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
}

// Usage is an error of wrong use with the command's own example.
func Usage(cmd *cobra.Command, format string, args ...any) error {
	return WithExample(cmd, &session.Misuse{What: fmt.Sprintf(format, args...)})
}

// WithExample adds the command's own example to an error of wrong use.
func WithExample(cmd *cobra.Command, err error) error {
	if wrong, ok := errors.AsType[*session.Misuse](err); ok && wrong.Example == "" {
		wrong.Example, _, _ = strings.Cut(strings.TrimSpace(cmd.Example), "\n")
	}
	return err
}

// Args checks the number of arguments, with the command's example.
func Args(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return Usage(cmd, "%s takes %s (got %d)", cmd.CommandPath(), what, len(args))
		}
		return nil
	}
}

// Subcommands is for a command that has subcommands and takes no argument itself.
func Subcommands(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	last := len(names) - 1
	return Usage(cmd, "unknown subcommand %q; use %s or %s", args[0], strings.Join(names[:last], ", "), names[last])
}
