package write

import (
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/schema"
	"uparrot/core/source"
)

// schemaCommand is the command schema with its flags.
type schemaCommand struct {
	*shell.Streams
	files shell.Outputs
	out   string
}

// Schema is the command schema.
func Schema(sh *shell.Streams) *cobra.Command {
	c := &schemaCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "schema phrasebook|bench|units [PROCEDURE]",
		Short: "Print the JSON Schema of a file, for editors and other programs",
		Long: `Prints the JSON Schema (draft 2020-12) of a phrasebook, a bench, or a row of a table
of units as JSON Lines. With a procedure the row has its inputs, with their ranges.`,
		Example: "uparrot schema units commission.parrot",
		Args:    shell.Args(1, 2, "what the schema is of: phrasebook, bench or units"),
		RunE:    c.run,
	}
	c.files.Add(cmd)
	cmd.Flags().StringVar(&c.out, "out", "", "write it to this file")
	return cmd
}

func (c *schemaCommand) run(cmd *cobra.Command, args []string) error {
	table := SchemaOf(args[0])
	switch {
	case table == nil:
		return shell.Usage(cmd, "there is no schema of %q. %s", args[0], source.DidYouMean(args[0], schema.Names))
	case len(args) == 2 && args[0] != "units":
		return shell.Usage(cmd, "only the schema of units knows a procedure")
	}
	c.files.Inputs = args[1:]
	if err := c.files.PlanFile(cmd, "out", c.out); err != nil {
		return err
	}
	more := args[0] == "units"
	if len(args) == 2 {
		file, err := procedure.Read(args[1])
		if err != nil {
			return shell.AsUsage(err)
		}
		table, more = unitsOf(table, file), false
	}
	text, err := table.JSON("uparrot "+strings.Join(args, " "), more)
	if err != nil {
		return err
	}
	text = append(text, '\n')
	if c.out == "" {
		_, err = c.Streams.Out.Write(text)
		return err
	}
	return c.Save(&c.files, c.out, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
}

// SchemaOf is what a file may hold; nil if there is no schema of that name.
func SchemaOf(name string) *schema.Table {
	switch name {
	case "phrasebook":
		return phrasebook.Schema()
	case "bench":
		return bench.Schema()
	case "units":
		return &schema.Units
	}
	return nil
}

// unitsOf is a row of a table of units with the inputs of a procedure.
func unitsOf(table *schema.Table, file *procedure.File) *schema.Table {
	own := &schema.Table{About: table.About, Keys: slices.Clone(table.Keys)}
	for _, in := range file.Inputs {
		k := schema.Key{Name: in.Name, Form: schema.Text, About: in.About, Low: in.Low, High: in.High}
		switch in.Type {
		case "int":
			k.Form = schema.Whole
		case "num":
			k.Form = schema.Number
		}
		if in.Default == nil && in.Pool == "" {
			own.Needed = append(own.Needed, in.Name)
		}
		own.Keys = append(own.Keys, k)
	}
	return own
}
