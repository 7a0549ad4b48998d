package shell

import (
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"uparrot/core/text"
)

// TakesFiles is the use line of a command that takes any number of files.
var TakesFiles = text.Regexp(`(FILE|RECORD)\S*\.\.\.`)

// Patterns has the commands that take files fill in patterns such as *.parrot themselves where the
// shell does not.
func Patterns(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		Patterns(c)
	}
	do := cmd.RunE
	if runtime.GOOS != "windows" || do == nil || !TakesFiles().MatchString(cmd.Use) {
		return
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return do(cmd, Filled(args)) }
}

// Filled is arguments with the files that patterns stand for. One that no file fits, or that is the
// name of a file, stays as it is: the command says what is wrong with it.
func Filled(args []string) []string {
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
