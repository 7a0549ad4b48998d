package cli

import (
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/text"
)

// takesFiles is the use line of a command that takes any number of files.
var takesFiles = text.Regexp(`(FILE|RECORD)\S*\.\.\.`)

// patterns has the commands that take files fill in patterns such as *.parrot themselves where the
// shell does not.
func patterns(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		patterns(c)
	}
	do := cmd.RunE
	if runtime.GOOS != "windows" || do == nil || !takesFiles().MatchString(cmd.Use) {
		return
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return do(cmd, filled(args)) }
}

// filled is arguments with the files that patterns stand for. One that no file fits, or that is the
// name of a file, stays as it is: the command says what is wrong with it.
func filled(args []string) []string {
	var all []string
	for _, arg := range args {
		found, err := filepath.Glob(arg)
		if err != nil || len(found) == 0 || !strings.ContainsAny(arg, "*?") {
			found = []string{arg}
		}
		all = append(all, found...)
	}
	return all
}
