package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uparrot/cli/prove"
	"uparrot/cli/shell"
	"uparrot/cli/watch"
	"uparrot/core/bench"
	"uparrot/core/ledger"
	"uparrot/core/phrasebook"
	"uparrot/core/port/portlist"
	"uparrot/core/procedure"
	"uparrot/core/report"
	"uparrot/core/report/rehearsal"
	"uparrot/core/schema"
	"uparrot/core/session"
	"uparrot/core/sim/families"
	"uparrot/core/verdict"
	"uparrot/examples"
)

// completer is what could stand at a place of a call. What it reads for that may be missing or have
// mistakes: then it knows nothing, since a shell that completes has nowhere to show an error.
type completer func(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective)

// oneOf offers words.
func oneOf(list ...string) completer {
	return func(_ *cobra.Command, _ []string, part string) ([]string, cobra.ShellCompDirective) {
		return beginning(list, part), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}

// beginning are those of a list that begin with what is there already.
func beginning(list []string, part string) (all []string) {
	for _, w := range list {
		if strings.HasPrefix(w, part) {
			all = append(all, w)
		}
	}
	return all
}

// filesOf offers files with these endings, or all if none is given.
func filesOf(endings ...string) completer {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		if len(endings) == 0 {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return endings, cobra.ShellCompDirectiveFilterFileExt
	}
}

func foldersOnly(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// readAnew offers what is read anew each time.
func readAnew(read func(cmd *cobra.Command, args []string) []string) completer {
	return func(cmd *cobra.Command, args []string, part string) ([]string, cobra.ShellCompDirective) {
		return beginning(read(cmd, args), part), cobra.ShellCompDirectiveNoFileComp
	}
}

// flagValue is the value of a flag of the call, "" if it has none of that name.
func flagValue(cmd *cobra.Command, name string) string {
	if f := cmd.Flags().Lookup(name); f != nil {
		return f.Value.String()
	}
	return ""
}

// benchOf is the bench of the call; nil if it names none that can be read.
func benchOf(cmd *cobra.Command) *bench.Bench {
	b, err := bench.Read(flagValue(cmd, "bench"), families.All.Names())
	if err != nil {
		return nil
	}
	return b
}

// procedureOf is the procedure of the call, as far as it can be read; nil if it names none.
func procedureOf(args []string) *procedure.File {
	for _, a := range args {
		if text, err := os.ReadFile(a); err == nil && filepath.Ext(a) != ".toml" {
			f, _ := procedure.Study(a, string(text), nil, os.ReadFile)
			return f
		}
	}
	return nil
}

// portNames are the ports of the bench, or else those of this machine.
func portNames(cmd *cobra.Command, _ []string) (names []string) {
	if b := benchOf(cmd); b != nil {
		return b.Names()
	}
	all, err := portlist.List()
	if err != nil {
		return nil // there is nothing to offer
	}
	for _, p := range all {
		names = append(names, strings.TrimRight(p.Path+"\t"+p.Product, "\t"))
	}
	return names
}

// benchPorts are the ports of the bench for those of the procedure.
func benchPorts(cmd *cobra.Command, args []string) (names []string) {
	b, f := benchOf(cmd), procedureOf(args)
	if b == nil {
		return nil
	}
	if f == nil || len(f.Ports) == 1 {
		names = b.Names()
	}
	if f != nil {
		for _, p := range f.Ports {
			for _, at := range b.Names() {
				names = append(names, p.Name+"="+at)
			}
		}
	}
	return names
}

func stepTitles(_ *cobra.Command, args []string) (titles []string) {
	if f := procedureOf(args); f != nil {
		for _, s := range f.Steps {
			titles = append(titles, s.Title)
		}
	}
	return titles
}

func inputNames(_ *cobra.Command, args []string) (names []string) {
	if f := procedureOf(args); f != nil {
		for _, in := range f.Inputs {
			names = append(names, strings.TrimRight(in.Name+"=\t"+in.About, "\t"))
		}
	}
	return names
}

func secretNames(_ *cobra.Command, args []string) (names []string) {
	if f := procedureOf(args); f != nil {
		for _, s := range f.Secrets {
			names = append(names, s.Name+"=")
		}
	}
	return names
}

func slotNames(cmd *cobra.Command, _ []string) []string {
	names := []string{"all"}
	if b := benchOf(cmd); b != nil {
		for _, s := range b.Slots {
			names = append(names, s.Name)
		}
	}
	return names
}

// inLedger offers what is read in the ledger of the call; one in the network is not waited for.
func inLedger(read func(cmd *cobra.Command, l *ledger.Ledger) ([]string, error)) completer {
	return readAnew(func(cmd *cobra.Command, _ []string) []string {
		where, err := session.LedgerPlace(flagValue(cmd, "ledger"))
		if err != nil || ledger.IsDatabase(where) {
			return nil
		}
		l, err := shell.OpenLedger(cmd.Context(), where)
		if err != nil {
			return nil // there is none yet
		}
		defer l.Close()
		all, err := read(cmd, l)
		if err != nil {
			return nil
		}
		return all
	})
}

// ofLedger offers something of each run of the ledger, the latest first, each once.
func ofLedger(of func(ledger.Run) string) completer {
	return inLedger(func(cmd *cobra.Command, l *ledger.Ledger) (all []string, err error) {
		err = l.Runs(cmd.Context(), ledger.Filter{Last: 500}, func(r ledger.Run) error {
			if v := of(r); v != "" && !slices.Contains(all, v) {
				all = append(all, v)
			}
			return nil
		})
		slices.Reverse(all)
		return all, err
	})
}

// measurementNames are the measurements of the ledger.
var measurementNames = inLedger(func(cmd *cobra.Command, l *ledger.Ledger) ([]string, error) { return l.Names(cmd.Context()) })

var (
	spans    = oneOf("500ms", "1s", "10s", "1m", "10m", "1h")
	verdicts = oneOf(string(verdict.Passed), string(verdict.Failed), string(verdict.Broken), string(verdict.Undecided), string(verdict.Untested), "unfinished")
	tables   = filesOf("toml")
	records  = filesOf("record", "jsonl", "log")
	days     = oneOf("24h", "168h", "720h")
)

// flagCompleters are what could stand behind a flag, by its name; by "COMMAND NAME" where commands differ.
var flagCompleters = map[string]completer{
	"bench": tables, "phrasebook": tables, "set-file": tables, "answers": tables, "settings": tables, "file": tables,
	"units": filesOf("csv", "tsv", "jsonl"), "phrasebook new table": filesOf("csv", "tsv", "txt", "md"), "from-record": records, "repeat-failed": records, "record": records,
	"ledger": filesOf("sqlite", "db"), "out": filesOf(), "plot": filesOf("png", "svg"), "metrics": filesOf(), "frames": filesOf("csv"), "truth": filesOf("json"), "checkpoint": filesOf(), "resume": filesOf(), "into": tables,
	"from-list": filesOf(), "from-log": filesOf(), "secret-file": readAnew(secretNames), "dir": foldersOnly,
	"dialect": oneOf("at", "console", "lines", "bytes"), "ending": oneOf("cr", "lf", "crlf", "none"), "frame": oneOf("8N1", "8E1", "8O1", "7E1", "7N2"), "speed": oneOf("9600", "19200", "38400", "57600", "115200"),
	"speeds": oneOf("9600", "19200", "38400", "57600", "115200"), "operator": oneOf("ask", "yes", "none"), "next": oneOf("enter", "answer", "power", "replug", "none"), "verdict": verdicts, "state": verdicts,
	"check as": oneOf("json", "sarif"), "phrasebook show as": oneOf("text", "markdown", "html"), "rehearse as": oneOf(rehearsal.Forms...), "report as": oneOf(report.Forms()...), "run as": oneOf(report.Forms()...),
	"results export as": oneOf("csv", "json", "jsonl"), "watch as": oneOf(watch.WatchForms...), "results export table": oneOf(ledger.Tables()...), "report table": oneOf(report.Tables...), "view": oneOf(prove.SeriesViews...),
	"port": readAnew(benchPorts), "only": readAnew(stepTitles), "from": readAnew(stepTitles), "set": readAnew(inputNames), "slots": readAnew(slotNames), "to": readAnew(portNames),
	"unit": ofLedger(func(r ledger.Run) string { return r.Unit }), "procedure": ofLedger(func(r ledger.Run) string { return r.Title }), "since": days, "until": days,
	"min-caught": oneOf("90%", "95%", "100%"), "max-loss": oneOf("1%", "2%", "5%"), "load": oneOf("25%", "50%", "90%"), "show": oneOf("1%", "2%"), "reading": readAnew(readingNames),
}

// readingNames are the readings of the phrasebook of the call.
func readingNames(cmd *cobra.Command, args []string) (names []string) {
	see := func(pb *phrasebook.Phrasebook) {
		if pb == nil {
			return
		}
		for _, r := range pb.Readings {
			names = append(names, r.Name)
		}
	}
	if pb, err := phrasebook.Read(flagValue(cmd, "phrasebook")); err == nil {
		see(pb)
	}
	if b := benchOf(cmd); b != nil {
		for _, a := range args {
			if e, ok := b.Port(a); ok {
				see(e.Phrasebook)
			}
		}
	}
	return names
}

// argCompleters are what the arguments of a command could be.
var argCompleters = map[string]completer{
	"run": filesOf("parrot"), "tidy": filesOf("parrot"), "check": filesOf("parrot", "toml"), "rehearse": filesOf("parrot"), "standin": tables, "learn": records, "report": records, "results add": records,
	"phrasebook show": tables, "phrasebook compare": tables, "units load": filesOf("csv", "tsv", "jsonl"), "settings compare": readAnew(portNames), "settings restore": readAnew(portNames),
	"schema":  oneOf(schema.Names...),
	"example": readAnew(exampleNames), "results show": ofLedger(func(r ledger.Run) string { return r.Run }), "results unit": ofLedger(func(r ledger.Run) string { return r.Unit }), "results trend": measurementNames, "results series": measurementNames,
}

// atPorts are commands whose arguments are ports.
var atPorts = []string{"probe", "loopback", "talk", "watch", "settings read", "settings apply", "link test", "link answer", "link map", "link capacity", "link plan"}

func exampleNames(*cobra.Command, []string) (names []string) {
	entries, err := examples.Files.ReadDir(".")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// completions has each flag and each argument of all commands be completed.
func completions(root *cobra.Command) {
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		name := strings.TrimPrefix(c.CommandPath(), "uparrot ")
		do := argCompleters[name]
		if slices.Contains(atPorts, name) {
			do = readAnew(portNames)
		}
		if do != nil {
			c.ValidArgsFunction = cobra.CompletionFunc(do)
		}
		c.Flags().VisitAll(func(f *pflag.Flag) {
			do := flagCompleters[name+" "+f.Name]
			if do == nil {
				do = flagCompleters[f.Name]
			}
			switch {
			case f.Value.Type() == "bool":
				return
			case do == nil && f.Value.Type() == "duration":
				do = spans
			case do == nil:
				do = oneOf() // nothing is known, and no file is meant
			}
			if err := c.RegisterFlagCompletionFunc(f.Name, cobra.CompletionFunc(do)); err != nil {
				panic(err) // it was registered twice: a fault of the program
			}
		})
		for _, sub := range c.Commands() {
			visit(sub)
		}
	}
	visit(root)
	if err := root.RegisterFlagCompletionFunc("color", cobra.CompletionFunc(oneOf(shell.Colours...))); err != nil {
		panic(err)
	}
}
