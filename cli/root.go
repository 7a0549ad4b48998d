package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/begin"
	"uparrot/cli/find"
	"uparrot/cli/measure"
	"uparrot/cli/prove"
	"uparrot/cli/rehearse"
	"uparrot/cli/run"
	"uparrot/cli/shell"
	"uparrot/cli/speak"
	"uparrot/cli/watch"
	"uparrot/cli/write"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/text"
)

// byUse are the commands that are used most, in this order.
var byUse = []string{"run", "check", "talk", "probe", "ports", "rehearse", "link", "watch", "settings", "report", "results", "standin", "learn", "tidy", "demo"}

// Main runs a command and returns its exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := context.WithCancelCause(context.Background())
	defer stop(nil)
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	if !signal.Ignored(syscall.SIGHUP) { // a closed terminal ends the work, unless it was to outlive it
		signal.Notify(signals, syscall.SIGHUP)
	}
	defer signal.Stop(signals)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE) // a write tells of it
	go func() {
		<-signals
		stop(shell.ErrInterrupted)
		signal.Stop(signals) // a second Ctrl-C ends the program at once
	}()

	a := &shell.Streams{In: in, Out: shell.Lasting(out, ctx.Done()), Err: shell.NewScreen(shell.Lasting(errOut, ctx.Done()))}
	root := root(a)
	root.SetArgs(args)
	root.SetErr(a.Err.W)
	err := unknownCommand(root, args)
	if err == nil {
		err = shell.Exclude(root.ExecuteContext(ctx))
	}
	printed := []io.Writer{a.Out, a.Stdout}
	if a.Stdout != nil { // then the rest goes to the other, whose loss nobody counts
		printed = printed[1:]
	}
	for _, w := range printed {
		missing := shell.Lost(w)
		if _, verdict := errors.AsType[shell.VerdictError](err); missing != nil && !verdict && (err == nil || errors.Is(err, missing)) {
			a.Err.Line("uparrot: what was to be printed could not be written: %s", shell.Safe(missing.Error()))
			return shell.ExitEvidence
		}
	}
	if err == nil && (shell.GaveUp(a.Out) || shell.GaveUp(a.Stdout)) {
		err = shell.ErrInterrupted
	}
	if err == nil {
		return shell.ExitPassed
	}
	if errors.Is(err, context.Canceled) && context.Cause(ctx) == shell.ErrInterrupted { // in whatever words
		err = shell.ErrInterrupted
	}
	status := shell.ExitStatus(err)
	_, said := errors.AsType[shell.VerdictError](err)
	mistakes, _ := errors.AsType[source.Mistakes](err)
	switch {
	case said || err.Error() == "":
	case mistakes != nil:
		a.Err.Line("%s\n\n%s found", text.Text(mistakes.Error()), shell.Count(len(mistakes), "mistake"))
	default:
		if wrong, ok := errors.AsType[*session.Misuse](err); ok {
			wrong.Own = ownCall(args, wrong)
		}
		a.Err.Line("%s", text.FoldAll("uparrot: "+shell.Safe(err.Error())))
	}
	return status
}

// meant is the hint that names another word in the place of one.
var meant = text.Regexp(`Did you mean ("(?:[^"\\]|\\.)*")\?`)

// ownCall is the person's own call, mended: with the word that was meant, or with what it lacks; "" if
// that cannot be told.
func ownCall(args []string, wrong *session.Misuse) string {
	own := slices.Clone(args)
	if m := meant().FindStringSubmatchIndex(wrong.What); m != nil && wrong.Lacks == "" {
		right, err := strconv.Unquote(wrong.What[m[2]:m[3]])
		quoted := regexp.MustCompile(`"(?:[^"\\]|\\.)*"|--[a-z-]+`).FindAllString(wrong.What[:m[0]], -1)
		if err != nil || len(quoted) == 0 {
			return ""
		}
		word := strings.Trim(quoted[len(quoted)-1], `"`)
		changed := 0
		for i, arg := range own {
			switch {
			case arg == word:
				own[i] = right
			case strings.HasPrefix(arg, word+"="):
				own[i] = right + arg[len(word):]
			case strings.HasSuffix(arg, "="+word):
				own[i] = strings.TrimSuffix(arg, word) + right
			default:
				continue
			}
			changed++
		}
		if changed != 1 {
			return ""
		}
	} else if wrong.Lacks == "" {
		return ""
	}
	call := "uparrot"
	for _, arg := range own {
		call += " " + shell.ShellWord(arg)
	}
	if wrong.Lacks != "" {
		call += " " + wrong.Lacks
	}
	return call
}

// Command is all commands with their flags and help, for those who describe them. They print nowhere.
func Command() *cobra.Command {
	return root(&shell.Streams{In: strings.NewReader(""), Out: io.Discard, Err: shell.NewScreen(io.Discard)})
}

func root(sh *shell.Streams) *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "uparrot",
		Short: "Put radio, modem and console-attached modules into service",
		Long: `uparrot says a module's commands over a serial line, checks every answer against
what must come, and measures the link that two modules make. "uparrot demo" shows it
without hardware; "uparrot help WORD" tells of a command or of a word of the files.

Exit statuses, of every command:

  0    passed, or measured without a limit
  1    failed; of report --verify: altered
  2    wrong use, or a file with mistakes or of another kind
  3    could not be run: a port is missing, held or lost
  4    undecided: too few frames, or steps that needed a person; of --verify: cut short
       or unprotected
  5    done, but its record, its place in the ledger or its output could not be written
  130  interrupted`,
		Example:           "uparrot demo",
		Version:           shell.VersionText(),
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		Args:              cobra.ArbitraryArgs,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.PersistentFlags().StringVar(&shell.Colour, "color", "auto", "colours: auto, always or never")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if !slices.Contains(shell.Colours, shell.Colour) {
			return shell.Usage(cmd, "--color: there is no %q. %s", shell.Colour, source.DidYouMean(shell.Colour, shell.Colours))
		}
		sh.Err.Recolour()
		return sh.StandardOutput(cmd)
	}
	cobra.AddTemplateFunc("kinds", kinds)
	root.SetUsageTemplate(usageOf(root.UsageTemplate()))
	root.SetVersionTemplate("uparrot {{.Version}}\n")
	root.SetFlagErrorFunc(flagError)
	for _, g := range day(sh) {
		root.AddGroup(&cobra.Group{ID: g.name, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.name
			root.AddCommand(c)
		}
	}
	root.SetOut(sh.Out) // before the completions: their command keeps what is said here
	root.SetHelpCommandGroupID("begin")
	root.SetHelpCommand(help(sh))
	completions(root)
	completionWords(root)
	shell.Grammar(root)
	shell.Patterns(root)
	return root
}

// usageOf is the usage that Cobra prints, no wider than a terminal that is wide, and in plain words.
func usageOf(template string) string {
	return strings.NewReplacer(
		".FlagUsages |", fmt.Sprintf(".FlagUsagesWrapped %d | kinds |", widest),
		"Additional Commands:", "Other:",
		"Global Flags:", "Flags of every command:",
		`Use "{{.CommandPath}} [command] --help" for more information about a command.`, `"{{.CommandPath}} COMMAND --help" tells more of a command.`,
	).Replace(template)
}

// kindWords are what the help calls the kinds of values, for what the library calls them.
var kindWords = map[string]string{"string": "TEXT", "strings": "TEXT", "stringArray": "TEXT", "int": "N", "uint": "N", "float": "N", "duration": "TIME"}

var kindOf = text.Regexp(`(?m)^(\s+(?:-\w, )?--[a-z0-9-]+) (string|strings|stringArray|int|uint|float|duration)(\s)`)

// kinds has the table of flags call the kinds of values by words that people have for them.
func kinds(usage string) string {
	return kindOf().ReplaceAllStringFunc(usage, func(found string) string {
		m := kindOf().FindStringSubmatch(found)
		return fmt.Sprintf("%s %-*s%s", m[1], len(m[2]), kindWords[m[2]], m[3])
	})
}

// widest is how many columns a line of help has at most.
const widest = 100

// part is a part of the day's work, and its commands.
type part struct {
	name, title string
	commands    []*cobra.Command
}

// day is the commands in the order in which they are needed.
func day(sh *shell.Streams) []part {
	return []part{
		{"begin", "Begin:", []*cobra.Command{begin.Demo(sh, root), begin.Example(sh)}},
		{"find", "Find out what is there:", []*cobra.Command{find.Ports(sh), find.Loopback(sh), find.Probe(sh)}},
		{"speak", "Speak with it:", []*cobra.Command{speak.Talk(sh), watch.Watch(sh), speak.Settings(sh)}},
		{"write", "Write down what is to be done:", []*cobra.Command{write.Phrasebook(sh), write.Learn(sh), write.Check(sh), write.Tidy(sh), rehearse.Rehearse(sh), write.LSP(sh), write.Schema(sh)}},
		{"perform", "Perform it:", []*cobra.Command{run.Run(sh), run.Units(sh), run.Standin(sh)}},
		{"measure", "Measure:", []*cobra.Command{measure.Link(sh)}},
		{"prove", "Prove:", []*cobra.Command{prove.Results(sh), prove.Report(sh)}},
	}
}

// unknownCommand refuses a first word that is no command, before its flags are
// read as somebody else's.
func unknownCommand(root *cobra.Command, args []string) error {
	if len(args) == 0 || strings.HasPrefix(args[0], "-") || strings.HasPrefix(args[0], "__") {
		return nil // __ begins what shells ask for completion
	}
	names := slices.Clone(byUse)
	for _, c := range root.Commands() {
		if c.Name() == args[0] {
			return nil
		}
		if !c.Hidden && !slices.Contains(names, c.Name()) {
			names = append(names, c.Name())
		}
	}
	names = append(names, "help", "completion")
	if slices.Contains(names, args[0]) {
		return nil
	}
	return &session.Misuse{What: fmt.Sprintf("there is no command %q. %s", args[0], source.DidYouMeanOf(args[0], names)), Example: "uparrot demo"}
}

// flagError says what is wrong with a flag in plain words.
func flagError(cmd *cobra.Command, err error) error {
	if bad, ok := errors.AsType[*pflag.InvalidValueError](err); ok {
		wanted := map[string]string{"int": "a whole number", "duration": "a time such as 500ms, 2s or 1d", "bool": "true or false"}[bad.GetFlag().Value.Type()]
		return shell.Usage(cmd, "--%s: %q is not %s", bad.GetFlag().Name, bad.GetValue(), wanted)
	}
	if unknown, ok := errors.AsType[*pflag.NotExistError](err); ok {
		var known []string
		cmd.Flags().SortFlags = false // in the order in which they were thought of
		cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
		name := "--" + unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			name = "-" + unknown.GetSpecifiedName()
		}
		return shell.Usage(cmd, "%s has no flag %s. %s", cmd.CommandPath(), name, source.DidYouMeanOf(name, known))
	}
	if bare, ok := errors.AsType[*pflag.ValueRequiredError](err); ok {
		return shell.Usage(cmd, "--%s needs a value", bare.GetFlag().Name)
	}
	return shell.Usage(cmd, "%v", err)
}
