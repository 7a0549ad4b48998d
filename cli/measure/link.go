package measure

import (
	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/source"
)

// Link is the command link with its subcommands.
func Link(sh *shell.Streams) *cobra.Command {
	cmd := &cobra.Command{
		Use:     "link",
		Short:   "Measure the link between two ports",
		Example: "uparrot link test valley summit --bench larkfell.toml --both",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return shell.Usage(cmd, "link has no command %q. %s", args[0], source.DidYouMean(args[0], []string{"test", "answer", "map", "capacity", "compare", "budget"}))
			}
			return cmd.Help()
		},
	}
	cmd.AddCommand(linkTest(sh), linkAnswer(sh), linkMap(sh), linkCapacity(sh), linkCompare(sh), linkBudget(sh), linkPlan(sh))
	return cmd
}
