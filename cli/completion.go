package cli

import (
	"github.com/spf13/cobra"
)

// shellHow is how a shell is given the completions, now and from now on.
var shellHow = map[string][2]string{
	"bash":       {"source <(uparrot completion bash)", "uparrot completion bash > ~/.local/share/bash-completion/completions/uparrot"},
	"zsh":        {"source <(uparrot completion zsh)", `uparrot completion zsh > "${fpath[1]}/_uparrot"`},
	"fish":       {"uparrot completion fish | source", "uparrot completion fish > ~/.config/fish/completions/uparrot.fish"},
	"powershell": {"uparrot completion powershell | Out-String | Invoke-Expression", "uparrot completion powershell >> $PROFILE"},
}

// completionWords has the command that Cobra makes for completions speak as the others do.
func completionWords(root *cobra.Command) {
	root.InitDefaultCompletionCmd()
	cmd, _, err := root.Find([]string{"completion"})
	if err != nil || cmd == root { // it is not there, so it says nothing
		return
	}
	cmd.Short = "Print the completions for a shell"
	cmd.Long = `Prints the completions of commands, flags, ports of the bench, steps and inputs of the
procedure, units and measurements of the ledger, for a shell. The packages bring them.`
	cmd.Example = "source <(uparrot completion bash)"
	for _, c := range cmd.Commands() {
		how, ok := shellHow[c.Name()]
		if !ok {
			continue
		}
		c.Short = "Print the completions for " + c.Name()
		c.Long = "Print the completions for " + c.Name() + ".\n\nFor this session:\n  " + how[0] + "\nFor every session from the next one on:\n  " + how[1]
		c.Example = how[0]
	}
}
