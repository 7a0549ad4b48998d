package write

import (
	"fmt"
	"io"
	"os"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/output"
	"uparrot/core/procedure"
	"uparrot/core/session"
	"uparrot/core/source"
)

// Tidy is the command tidy.
func Tidy(sh *shell.Streams) *cobra.Command {
	var diff, write bool
	cmd := &cobra.Command{
		Use:   "tidy FILE...",
		Short: "Rewrite a procedure in the one standard layout",
		Long: `Prints a procedure in the one standard layout: four blanks for each block, one
between words, an empty line before each step. Comments and all that is said and
heard stay as they are. A procedure with mistakes is not touched.

With --diff, exit status 1 means that a file is not tidy. The file - is standard
input.`,
		Example: "uparrot tidy --write commission.parrot",
		Args:    shell.Args(1, -1, "one or more procedures"),
		RunE: func(cmd *cobra.Command, files []string) error {
			changed := false
			for _, f := range files {
				if write && f == "-" {
					return shell.Usage(cmd, "--write cannot write standard input: leave it out")
				}
				text, err := textOf(sh, f)
				if err != nil {
					return &session.Misuse{What: err.Error()}
				}
				tidied, err := procedure.Tidy(f, text)
				if err != nil {
					return shell.AsUsage(err)
				}
				changed = changed || tidied != text
				if diff {
					fmt.Fprint(sh.Out, udiff.Unified(f, f+" (tidy)", text, tidied))
				}
				if write && tidied != text {
					if err := replaceFile(f, tidied); err != nil {
						return err
					}
					sh.Err.Line("%s is rewritten", f)
				}
				if !diff && !write {
					fmt.Fprint(sh.Out, tidied)
				}
			}
			if diff && changed && !write {
				return shell.QuietError{Status: shell.ExitFailed}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&diff, "diff", false, "print the differences instead")
	cmd.Flags().BoolVar(&write, "write", false, "write the files instead of printing them")
	return cmd
}

// textOf is the text of a file, or of standard input for -.
func textOf(sh *shell.Streams, file string) (string, error) {
	var text []byte
	var err error
	if file == "-" {
		text, err = source.ReadAll(sh.In, "standard input")
	} else {
		text, err = source.ReadFile(file)
	}
	return string(text), err
}

// replaceFile puts new text in the place of a file, or of what a link leads to, whole or
// not at all. Who may read it stays.
func replaceFile(path, text string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	_, err = (&output.Files{Overwrite: true}).Write(path, func(w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	})
	if err == nil {
		err = os.Chmod(path, info.Mode().Perm())
	}
	return err
}
