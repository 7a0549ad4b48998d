// Package cli is the commands of uparrot and everything that a terminal shows.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/core/output"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// Set by the build; see Makefile.
var (
	version = "0.1.0"
	commit  = ""
)

// The exit statuses.
const (
	exitPassed      = 0
	exitFailed      = 1
	exitUsage       = 2 // wrong use, or a file with mistakes
	exitBroken      = 3 // could not run: port missing, held or lost
	exitUndecided   = 4 // too few frames to tell, or steps that needed a person
	exitEvidence    = 5 // passed, but its record or its place in the ledger could not be written
	exitInterrupted = 130
)

// byUse are the commands that are used most, in this order.
var byUse = []string{"run", "check", "talk", "probe", "ports", "rehearse", "link", "watch", "settings", "report", "results", "standin", "learn", "tidy", "demo"}

// usage is an error of wrong use with the command's own example.
func usage(cmd *cobra.Command, format string, args ...any) error {
	return withExample(cmd, &session.Misuse{What: fmt.Sprintf(format, args...)})
}

// withExample adds the command's own example to an error of wrong use.
func withExample(cmd *cobra.Command, err error) error {
	if wrong, ok := errors.AsType[*session.Misuse](err); ok && wrong.Example == "" {
		wrong.Example, _, _ = strings.Cut(strings.TrimSpace(cmd.Example), "\n")
	}
	return err
}

// errVerdict carries a verdict that is not passed to the exit status. All has
// been said already.
type errVerdict struct{ verdict.Verdict }

func (e errVerdict) Error() string { return string(e.Verdict) }

// verdictError is nil for what passed.
func verdictError(v verdict.Verdict) error {
	if v == verdict.Passed || v == verdict.Measured || v == verdict.Skipped || v == "" {
		return nil
	}
	return errVerdict{v}
}

// errInterrupted is the cause of a context that the person ended.
var errInterrupted = errors.New("interrupted")

// app is what all commands share.
type app struct {
	in   io.Reader
	out  io.Writer
	err  *screen
	json bool

	stdout io.Writer // standard output, where --out - has taken it; else nil
}

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
		stop(errInterrupted)
		signal.Stop(signals) // a second Ctrl-C ends the program at once
	}()

	a := &app{in: in, out: lasting(out), err: newScreen(errOut)}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(a.out)
	root.SetErr(errOut)
	err := unknownCommand(root, args)
	if err == nil {
		err = exclude(root.ExecuteContext(ctx))
	}
	if missing := errors.Join(lost(a.out), lost(a.stdout)); err == nil && missing != nil {
		a.err.line("uparrot: what was to be printed could not be written: %s", safe(missing.Error()))
		return exitEvidence
	}
	if err == nil {
		return exitPassed
	}
	if errors.Is(err, context.Canceled) && context.Cause(ctx) == errInterrupted { // in whatever words
		err = errInterrupted
	}
	status := exitStatus(err)
	_, said := errors.AsType[errVerdict](err)
	mistakes, _ := errors.AsType[source.Mistakes](err)
	switch {
	case said || err.Error() == "":
	case mistakes != nil:
		a.err.line("%s\n\n%s found", text.Text(mistakes.Error()), count(len(mistakes), "mistake"))
	default:
		if wrong, ok := errors.AsType[*session.Misuse](err); ok {
			wrong.Own = ownCall(args, wrong)
		}
		a.err.line("%s", text.FoldAll("uparrot: "+safe(err.Error())))
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
		call += " " + shellWord(arg)
	}
	if wrong.Lacks != "" {
		call += " " + wrong.Lacks
	}
	return call
}

func exitStatus(err error) int {
	if v, ok := errors.AsType[errVerdict](err); ok {
		return map[verdict.Verdict]int{verdict.Failed: exitFailed, verdict.Undecided: exitUndecided, verdict.Untested: exitUndecided, verdict.Broken: exitBroken}[v.Verdict]
	}
	if q, ok := errors.AsType[errQuiet](err); ok {
		return q.status
	}
	_, wrongUse := errors.AsType[*session.Misuse](err)
	_, mistakes := errors.AsType[source.Mistakes](err)
	_, noRecord := errors.AsType[*record.Damaged](err)
	_, lost := errors.AsType[*output.Lost](err)
	switch {
	case errors.Is(err, errInterrupted):
		return exitInterrupted
	case lost:
		return exitEvidence
	case wrongUse || mistakes || noRecord:
		return exitUsage
	}
	return exitBroken
}

func (a *app) root() *cobra.Command {
	cobra.EnableCommandSorting = false
	root := &cobra.Command{
		Use:   "uparrot",
		Short: "Puts radio, modem and console-attached modules into service",
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
		Version:           versionText(),
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
		Args:              cobra.ArbitraryArgs,
		RunE:              func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.PersistentFlags().StringVar(&colour, "color", "auto", "colours: auto, always or never")
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if !slices.Contains(colours, colour) {
			return usage(cmd, "--color: there is no %q. %s", colour, source.DidYouMean(colour, colours))
		}
		a.err.recolour()
		return a.standardOutput(cmd)
	}
	cobra.AddTemplateFunc("kinds", kinds)
	root.SetUsageTemplate(usageOf(root.UsageTemplate()))
	root.SetVersionTemplate("uparrot {{.Version}}\n")
	root.SetFlagErrorFunc(flagError)
	for _, g := range a.day() {
		root.AddGroup(&cobra.Group{ID: g.name, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.name
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID("begin")
	root.SetHelpCommand(a.help())
	root.AddCommand(a.man())
	completions(root)
	completionWords(root)
	grammar(root)
	patterns(root)
	return root
}

// usageOf is the usage that Cobra prints, no wider than a terminal that is wide, and in plain words.
func usageOf(template string) string {
	return strings.NewReplacer(
		".FlagUsages |", fmt.Sprintf(".FlagUsagesWrapped %d | kinds |", widest),
		"Additional Commands:", "Besides:",
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
func (a *app) day() []part {
	return []part{
		{"begin", "Begin:", []*cobra.Command{a.demo((*app).root), a.example()}},
		{"find", "Find out what is there:", []*cobra.Command{a.listPorts(), a.loopback(), a.probe()}},
		{"speak", "Speak with it:", []*cobra.Command{a.talk(), a.watch(), a.settings()}},
		{"write", "Write down what is to be done:", []*cobra.Command{a.phrasebookCommand(), a.learn(), a.check(), a.tidy(), a.rehearse(), a.lsp(), a.schema()}},
		{"perform", "Perform it:", []*cobra.Command{a.run(), a.unitsCommand(), a.standin()}},
		{"measure", "Measure:", []*cobra.Command{a.link()}},
		{"prove", "Prove:", []*cobra.Command{a.results(), a.report()}},
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
		return usage(cmd, "--%s: %q is not %s", bad.GetFlag().Name, bad.GetValue(), wanted)
	}
	if unknown, ok := errors.AsType[*pflag.NotExistError](err); ok {
		var known []string
		cmd.Flags().SortFlags = false // in the order in which they were thought of
		cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
		name := "--" + unknown.GetSpecifiedName()
		if unknown.GetSpecifiedShortnames() != "" {
			name = "-" + unknown.GetSpecifiedName()
		}
		return usage(cmd, "%s has no flag %s. %s", cmd.CommandPath(), name, source.DidYouMeanOf(name, known))
	}
	if bare, ok := errors.AsType[*pflag.ValueRequiredError](err); ok {
		return usage(cmd, "--%s needs a value", bare.GetFlag().Name)
	}
	return usage(cmd, "%v", err)
}

func versionText() string {
	c := commit
	if c == "" {
		if info, ok := debug.ReadBuildInfo(); ok {
			for _, s := range info.Settings {
				if s.Key == "vcs.revision" {
					c = s.Value[:min(12, len(s.Value))]
				}
			}
		}
	}
	if c == "" {
		c = "unknown"
	}
	return fmt.Sprintf("%s, commit %s", version, c)
}

// args checks the number of arguments, with the command's example.
func args(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usage(cmd, "%s takes %s, not %s", cmd.CommandPath(), what, count(len(args), "argument"))
		}
		return nil
	}
}

// printJSON writes a result to stdout.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}
