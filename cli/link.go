package cli

import (
	"github.com/spf13/cobra"

	"uparrot/core/source"
)

func (a *app) link() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "link",
		Short:   "Measures the link between two ports",
		Example: "uparrot link test valley summit --bench larkfell.toml --both",
		Args:    cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage(cmd, "link has no command %q. %s", args[0], source.DidYouMean(args[0], []string{"test", "answer", "map", "capacity", "compare", "budget"}))
			}
			return cmd.Help()
		},
	}
	cmd.AddCommand(a.linkTest(), a.linkAnswer(), a.linkMap(), a.linkCapacity(), a.linkCompare(), a.linkBudget(), a.linkPlan())
	return cmd
}
