package begin

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/source"
	"uparrot/core/writing"
	"uparrot/examples"
)

// exampleCommand is the command example with its flags.
type exampleCommand struct {
	*shell.Streams
	files shell.Outputs
	dir   string
}

// Example is the command example.
func Example(sh *shell.Streams) *cobra.Command {
	c := &exampleCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "example [NAME...]",
		Short: "List the examples, or write some of them with the files that they name",
		Long: `Lists the examples of the Larkfell cableway, or writes those that are named, each with
the phrasebooks, procedures and tables that it names, into the current folder. The name
all writes all of them.`,
		Example: "uparrot example commission.parrot larkfell.toml",
		RunE:    c.run,
	}
	c.files.Add(cmd)
	cmd.Flags().StringVar(&c.dir, "dir", ".", "the folder to write them into; it is made if there is none")
	return cmd
}

func (c *exampleCommand) run(cmd *cobra.Command, names []string) error {
	all, err := fs.ReadDir(examples.Files, ".")
	if err != nil {
		return fmt.Errorf("read the examples in the program: %w", err)
	}
	var known []string
	for _, e := range all {
		known = append(known, e.Name())
	}
	if len(names) == 0 {
		return c.list(known)
	}
	if slices.Contains(names, "all") {
		names = known
	}
	var wanted []string
	for _, n := range names {
		if n, err = exampleNamed(n, known); err != nil {
			return shell.Usage(cmd, "%v", err)
		}
		for _, f := range withNamed(n) {
			if !slices.Contains(wanted, f) {
				wanted = append(wanted, f)
			}
		}
	}
	if err := os.MkdirAll(c.dir, 0o755); err != nil {
		return shell.Usage(cmd, "--dir: %v", err)
	}
	c.files.KeepBoth = shell.KeepBoth(cmd)
	for _, n := range wanted { // first, so that nothing is written where one may not be
		if err := c.files.Plan("the example", filepath.Join(c.dir, n)); err != nil {
			return shell.Usage(cmd, "%v", err)
		}
	}
	for _, n := range wanted {
		text, err := examples.Files.ReadFile(n)
		if err != nil {
			return fmt.Errorf("read the example %s: %w", n, err)
		}
		to := filepath.Join(c.dir, n)
		if err := c.Save(&c.files, to, func(w io.Writer) error { _, err := w.Write(text); return err }); err != nil {
			return err
		}
		fmt.Fprintln(c.Streams.Out, to)
	}
	return nil
}

// exampleNamed is an example by its name, which may lack its ending where that is enough.
func exampleNamed(name string, known []string) (string, error) {
	var like, bare []string
	for _, k := range known {
		if k == name {
			return k, nil
		}
		bare = append(bare, strings.TrimSuffix(k, path.Ext(k)))
		if strings.TrimSuffix(k, path.Ext(k)) == name {
			like = append(like, k)
		}
	}
	switch len(like) {
	case 1:
		return like[0], nil
	case 0:
		return "", fmt.Errorf("there is no example %q. %s", name, source.DidYouMeanOr(name, slices.Concat(known, bare), "uparrot example lists them."))
	}
	return "", fmt.Errorf("there are several examples called so: %s", strings.Join(like, ", "))
}

// withNamed are an example and the others that it names.
func withNamed(name string) []string {
	all := []string{name}
	see := func(path string) ([]byte, error) {
		file := filepath.Base(path)
		text, err := examples.Files.ReadFile(file)
		if err == nil && !slices.Contains(all, file) {
			all = append(all, file)
		}
		return text, err
	}
	if text, err := see(name); err == nil && path.Ext(name) != ".csv" {
		writing.Read(name, string(text), see)
	}
	return all
}

// list tells of each example what it is.
func (c *exampleCommand) list(known []string) error {
	var rows [][]string
	for _, ending := range []string{".parrot", ".toml", ".csv"} {
		for _, n := range known {
			if path.Ext(n) != ending {
				continue
			}
			text, err := examples.Files.ReadFile(n)
			if err != nil {
				return fmt.Errorf("read the example %s: %w", n, err)
			}
			what := "a table of units"
			if ending != ".csv" {
				d := writing.Read(n, string(text), examples.Files.ReadFile)
				if err := d.Mistakes.Err(); err != nil {
					return errors.Join(fmt.Errorf("the example %s has mistakes", n), err)
				}
				what = d.Words()
			}
			rows = append(rows, []string{n, what})
		}
	}
	shell.Table(c.Streams.Out, rows)
	fmt.Fprintln(c.Streams.Out, "\nuparrot example NAME writes one, with the files that it names.")
	return nil
}
