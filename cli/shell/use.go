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
			return Usage(cmd, "%s takes %s, not %s", cmd.CommandPath(), what, Count(len(args), "argument"))
		}
		return nil
	}
}
