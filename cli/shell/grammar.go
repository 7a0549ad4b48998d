package shell

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/core/session"
	"uparrot/core/text"
)

// What holds for the flags of all commands is laid on here, in one place: letters, times with days,
// names of an earlier version, and flags that exclude each other. The table in docs/code.md says what
// each name means wherever it stands.

// Shorts are the letters of the flags that are used most.
var Shorts = map[string]string{"as": "a", "bench": "b", "json": "j", "ledger": "l", "out": "o", "port": "p", "quiet": "q", "record": "r", "set": "s", "unit": "u"}

// Earlier are names that flags had in the version before this one, by the command. They go on to be
// understood for this version, and are not shown.
var Earlier = map[string]map[string]string{
	"uparrot probe":       {"write": "into"},
	"uparrot link test":   {"time": "for"},
	"uparrot link budget": {"payload": "size"},
}

// exclusive are flags of which a call has one at most.
var exclusive = [][]string{{"overwrite", "keep-both"}, {"only", "from", "repeat-failed"}, {"from-list", "from-log"}, {"factory", "from-record"}, {"verify", "out"}}

// Grammar lays on what holds for the flags of a command and of all below it.
func Grammar(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		Grammar(c)
	}
	var own, passedOn []*pflag.Flag
	cmd.Flags().SortFlags = false // they stay in the order in which they were thought of
	cmd.PersistentFlags().VisitAll(func(f *pflag.Flag) { passedOn = append(passedOn, f) })
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if cmd.PersistentFlags().Lookup(f.Name) == nil {
			own = append(own, f)
		}
	})
	cmd.ResetFlags() // letters can only be given to a flag that is new
	names := Earlier[cmd.CommandPath()]
	cmd.Flags().SetNormalizeFunc(func(_ *pflag.FlagSet, name string) pflag.NormalizedName {
		if now, ok := names[name]; ok {
			name = now
		}
		return pflag.NormalizedName(name)
	})
	for set, flags := range map[*pflag.FlagSet][]*pflag.Flag{cmd.Flags(): own, cmd.PersistentFlags(): passedOn} {
		for _, f := range flags {
			f.Shorthand = Shorts[f.Name]
			if f.Value.Type() == "duration" {
				f.Value = dayed{f.Value}
				if f.DefValue == "0s" { // no default worth a word in the help
					f.DefValue = "0"
				}
			}
			set.AddFlag(f)
		}
	}
	for _, group := range exclusive {
		var has []string
		for _, name := range group {
			if cmd.Flags().Lookup(name) != nil {
				has = append(has, name)
			}
		}
		if len(has) > 1 {
			cmd.MarkFlagsMutuallyExclusive(has...)
		}
	}
}

// dayed is a time that may begin with days, such as 2d or 1d12h.
type dayed struct{ pflag.Value }

// Set reads a time.
func (d dayed) Set(text string) error { return d.Value.Set(InHours(text)) }

var withDays = text.Regexp(`^([0-9]+(?:\.[0-9]+)?)d(.*)$`)

// InHours is a time with its days as hours; a text that has none stays as it is.
func InHours(text string) string {
	m := withDays().FindStringSubmatch(text)
	if m == nil {
		return text
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		return text
	}
	return strconv.FormatFloat(24*n, 'f', -1, 64) + "h" + m[2]
}

var severalOf = text.Regexp(`^if any flags in the group \[.*\] are set none of the others can be; \[(.*)\] were all set$`)

// Exclude says in plain words that flags exclude each other.
func Exclude(err error) error {
	if err == nil {
		return nil
	}
	m := severalOf().FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	names := strings.Fields(m[1])
	return &session.Misuse{What: fmt.Sprintf("--%s exclude each other: give one of them", strings.Join(names, " and --"))}
}

// StandardOutput has the result written to standard output where --out is -, and all else that would be
// printed there to standard error.
func (a *Streams) StandardOutput(cmd *cobra.Command) error {
	out := cmd.Flags().Lookup("out")
	if out == nil || out.Value.String() != "-" {
		return nil
	}
	if a.JSON {
		return Usage(cmd, "--out - and --json both print to standard output: give one of them")
	}
	a.Stdout, a.Out = a.Out, a.Err.W
	return nil
}
