package measure

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/stats"
	"uparrot/core/verdict"
)

// notAgain are flags of a link test that a call which goes on does without: how many frames,
// how long at most, and what exists by now.
var notAgain = map[string]bool{"count": true, "max-count": true, "until-sure": true, "resume": true, "checkpoint": true, "frames": true, "plot": true, "max-time": true, "overwrite": true, "keep-both": true}

// toDecide is the call that would decide an undecided test; "" where no number of frames
// would.
func (c *LinkTestCommand) toDecide(cmd *cobra.Command, args []string, sum link.Summary) string {
	inAll, open := 0, false
	for _, d := range sum.Directions {
		inAll = max(inAll, d.InAll)
		open = open || d.Judged.Loss == verdict.Undecided || d.Judged.P95 == verdict.Undecided
	}
	if sum.Verdict != verdict.Undecided || !open || !c.plan.Sure && inAll == 0 {
		return ""
	}
	words := append(strings.Fields(cmd.CommandPath()), args...)
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if notAgain[f.Name] {
			return
		}
		values := []string{f.Value.String()}
		if list, ok := f.Value.(pflag.SliceValue); ok {
			values = list.GetSlice()
		}
		for _, v := range values {
			switch {
			case f.Value.Type() == "bool" && v == "true":
				words = append(words, "--"+f.Name)
			case f.Value.Type() == "bool":
				words = append(words, "--"+f.Name+"="+v)
			default:
				words = append(words, "--"+f.Name, v)
			}
		}
	})
	switch {
	case c.save != "":
		words = append(words, "--resume", c.save, "--checkpoint", c.save, "--until-sure")
	case c.plan.Sure:
		words = append(words, "--until-sure", "--max-count", fmt.Sprint(10*c.plan.Count))
	case inAll > stats.LongEnough: // it ends sooner where its loss is not near the limit
		words = append(words, "--until-sure", "--max-count", fmt.Sprint(inAll))
	default:
		words = append(words, "--count", fmt.Sprint(inAll))
	}
	if cmd.Flags().Changed("record") {
		words = append(words, "--keep-both")
	}
	for i, w := range words {
		words[i] = shell.ShellWord(w)
	}
	return strings.Join(words, " ")
}
