package run

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/batch"
	"uparrot/core/ledger"
	"uparrot/core/phrasebook"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/verdict"
)

// unitsCommand is the command units: batches of units in a ledger, for several stations.
type unitsCommand struct {
	*shell.Streams
	ledger    string
	batch     string
	procedure string
	by        string
	file      string
	state     []string
	secret    bool
	key       string
	inputs    session.Inputs
}

// Units is the command units with its subcommands.
func Units(sh *shell.Streams) *cobra.Command {
	c := &unitsCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "units",
		Short: "Manage units for several stations: load, list, release, pool",
		Long: `A table of units can lie in the ledger, so that several stations work through it:
each unit goes to one station, and what came of it stands there. A station is a
"uparrot run" with --units batch:NAME and the same --ledger.

Pools are values of which each is given out once, such as addresses.`,
		Example: "uparrot units load tray.csv --ledger postgres://bench@tower/larkfell",
		Args:    shell.Subcommands,
		RunE:    func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	for _, sub := range []*cobra.Command{c.loadCommand(), c.listCommand(), c.releaseCommand(), c.poolCommand()} {
		shell.AddLedger(sub, &c.ledger)
		cmd.AddCommand(sub)
	}
	return cmd
}

func (c *unitsCommand) loadCommand() *cobra.Command {
	load := &cobra.Command{
		Use:     "load TABLE",
		Short:   "Put the units of a table into the ledger",
		Long:    "Puts the units of a table (CSV, TSV, JSON Lines) into a batch of the ledger. Units that\nare there already with the same values stay as they are.",
		Example: "uparrot units load tray.csv --procedure anyradio.parrot",
		Args:    shell.Args(1, 1, "one table"),
		RunE:    c.load,
	}
	load.Flags().StringVar(&c.batch, "batch", "", "its name; that of the file unless given")
	load.Flags().StringVar(&c.procedure, "procedure", "", "validate the table against this procedure")
	load.Flags().StringArrayVar(&c.inputs.Set, "set", nil, "with --procedure: what the stations give for all units, NAME=VALUE")
	load.Flags().StringVar(&c.by, "by", "", "who loads it; the login name unless given")
	return load
}

func (c *unitsCommand) listCommand() *cobra.Command {
	list := &cobra.Command{
		Use:     "list [BATCH]",
		Short:   "List batches, or the units of one",
		Example: "uparrot units list tray",
		Args:    shell.Args(0, 1, "a batch, or nothing for all"),
		RunE:    c.list,
	}
	list.Flags().StringArrayVar(&c.state, "state", nil, "only units in this state: open, claimed, or a verdict")
	c.AddJSON(list, "the result")
	return list
}

func (c *unitsCommand) releaseCommand() *cobra.Command {
	release := &cobra.Command{
		Use:   "release BATCH [UNIT...]",
		Short: "Release units to stations again",
		Long: `Release units to stations again: those whose station was lost or that could
not run (broken), or those in the states that --state names. Units that a station
has in hand are left alone.`,
		Example: "uparrot units release tray --state failed",
		Args:    shell.Args(1, 1000, "a batch, and units of it"),
		RunE:    c.release,
	}
	release.Flags().StringArrayVar(&c.state, "state", nil, "units in this state, broken unless given: a verdict, or all")
	return release
}

func (c *unitsCommand) poolCommand() *cobra.Command {
	pool := &cobra.Command{
		Use:   "pool [NAME [VALUE...]]",
		Short: "List pools, or add values to one",
		Long: `Adds values to a pool: values, or ranges such as 11..60, or the lines of a file. A
procedure takes them by its header, as: input address: int from pool "addresses".
Each is given to one unit, which keeps it; it comes back only where it is known
that no line with it was said. Without values it lists what became of them.

Secrets (--secret) lie in the ledger encrypted, under a key in a file of this
machine, which other stations need a copy of.`,
		Example: "uparrot units pool addresses 11..60",
		Args:    shell.Args(0, 1000, "a pool, and values for it"),
		RunE:    c.pool,
	}
	pool.Flags().StringVar(&c.file, "file", "", "add the values of this file, one a line")
	pool.Flags().BoolVar(&c.secret, "secret", false, "the values are shown nowhere, such as keys; without values: those that the pool has")
	shell.AddPoolKey(pool, &c.key)
	c.AddJSON(pool, "the list")
	return pool
}

func (c *unitsCommand) load(cmd *cobra.Command, args []string) error {
	name := cmp.Or(c.batch, strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0])))
	var file *procedure.File
	var different []string
	if c.procedure != "" {
		var err error
		if file, err = procedure.Read(c.procedure); err != nil {
			return shell.AsUsage(err)
		}
		var books []*phrasebook.Phrasebook
		for _, p := range file.Ports {
			books = append(books, p.Phrasebook)
		}
		different = session.MustDiffer(file, books)
	} else if len(c.inputs.Set) > 0 {
		return shell.Usage(cmd, "--set is what a procedure needs besides the table: name it with --procedure")
	}
	return c.onLedger(cmd.Context(), func(ctx context.Context, l *ledger.Ledger) error {
		by := c.by
		if by == "" {
			o, err := record.NewOrigin("", "")
			if err != nil {
				return err
			}
			by = o.Operator
		}
		added, all, err := session.LoadUnits(ctx, l, args[0], name, by, file, c.inputs, different)
		if err != nil {
			return shell.WithExample(cmd, err)
		}
		fmt.Fprintf(c.Out, "batch %s: %s loaded, %d there already\n", shell.OneLine(name), shell.Count(added, "unit"), all-added)
		if added > 0 {
			c.Err.Line("%s", c.Err.Faint("work through it: uparrot run PROCEDURE --units "+batch.InLedger+shell.Safe(name)))
		}
		return nil
	})
}

// onLedger does something with the ledger, which is made if there is none.
func (c *unitsCommand) onLedger(ctx context.Context, do func(context.Context, *ledger.Ledger) error) error {
	where, err := session.LedgerPlace(c.ledger)
	if err != nil {
		return &session.Misuse{What: err.Error()}
	}
	l, err := ledger.Open(ctx, where)
	if err != nil {
		return err
	}
	return errors.Join(do(ctx, l), l.Close())
}

// unitStates are the states that a unit of a batch can be in.
var unitStates = []string{ledger.Waiting, ledger.Claimed, string(verdict.Passed), string(verdict.Failed), string(verdict.Broken), string(verdict.Undecided), string(verdict.Untested)}

// states are those that --state names.
func (c *unitsCommand) states(cmd *cobra.Command, known []string) ([]string, error) {
	for _, s := range c.state {
		if !slices.Contains(known, s) {
			return nil, shell.Usage(cmd, "--state: there is no state %q here. %s", s, source.DidYouMean(s, known))
		}
	}
	return c.state, nil
}

// batchOf is a batch by its name.
func batchOf(ctx context.Context, cmd *cobra.Command, l *ledger.Ledger, name string) (ledger.Batch, error) {
	b, err := l.Batch(ctx, name)
	if none, ok := errors.AsType[*ledger.NoBatch](err); ok {
		return b, shell.Usage(cmd, "%v. %s", none, source.DidYouMean(name, none.Known))
	}
	return b, err
}

func (c *unitsCommand) list(cmd *cobra.Command, args []string) error {
	states, err := c.states(cmd, unitStates)
	if err != nil {
		return err
	}
	l, err := shell.OpenLedger(cmd.Context(), c.ledger)
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	if len(args) == 0 {
		return errors.Join(c.listBatches(cmd.Context(), l), l.Close())
	}
	return errors.Join(c.listUnits(cmd, l, args[0], states), l.Close())
}

func (c *unitsCommand) listBatches(ctx context.Context, l *ledger.Ledger) error {
	list, err := l.Batches(ctx)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(list)
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Out, "the ledger has no batch: load one with uparrot units load TABLE")
		return nil
	}
	rows := [][]string{{"batch", "procedure", "loaded", "by", "units"}}
	for _, b := range list {
		rows = append(rows, []string{shell.OneLine(b.Batch), shell.OneLine(cmp.Or(b.Title, "-")), b.Loaded.Local().Format("2006-01-02 15:04"), shell.OneLine(b.LoadedBy), inStates(b.States)})
	}
	shell.Table(c.Out, rows)
	return nil
}

// inStates is how many units are in each state, in words.
func inStates(states map[string]int) string {
	var parts []string
	for _, s := range unitStates {
		if states[s] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", states[s], s))
		}
	}
	for _, s := range slices.Sorted(maps.Keys(states)) {
		if !slices.Contains(unitStates, s) {
			parts = append(parts, fmt.Sprintf("%d %s", states[s], s))
		}
	}
	return strings.Join(parts, ", ")
}

// withConflicts is a batch as data.
type withConflicts struct {
	ledger.Batch
	Units     []ledger.BatchUnit `json:"units"`
	Conflicts []ledger.Conflict  `json:"conflicts"`
}

func (c *unitsCommand) listUnits(cmd *cobra.Command, l *ledger.Ledger, name string, states []string) error {
	ctx := cmd.Context()
	if _, err := batchOf(ctx, cmd, l, name); err != nil {
		return err
	}
	var list withConflicts
	var err error
	if list.Batch, err = l.Batch(ctx, name); err != nil {
		return err
	}
	if list.Units, err = l.Units(ctx, name, ""); err != nil {
		return err
	}
	if list.Conflicts, err = l.Conflicts(ctx, name); err != nil {
		return err
	}
	if len(states) > 0 {
		list.Units = slices.DeleteFunc(list.Units, func(u ledger.BatchUnit) bool { return !slices.Contains(states, u.State) })
	}
	if c.JSON {
		return c.PrintJSON(list)
	}
	s := shell.NewScreen(c.Out)
	rows := [][]string{{"unit", "state", "station", "run", ""}}
	for _, u := range list.Units {
		why := u.Why
		if u.State == ledger.Claimed {
			why = "its claim lasts until " + u.Lease.Local().Format("15:04:05")
		}
		rows = append(rows, []string{shell.OneLine(u.Unit), s.Verdict(verdict.Verdict(u.State), 0), shell.OneLine(u.Station), u.Run[:min(8, len(u.Run))], shell.OneLine(shell.Clip(why))})
	}
	shell.Table(c.Out, rows)
	fmt.Fprintf(c.Out, "\nbatch %s of %s: %s\n", shell.OneLine(name), shell.OneLine(cmp.Or(list.Title, "no procedure yet")), inStates(list.States))
	if len(list.Conflicts) > 0 {
		fmt.Fprintf(c.Out, "\n%s: the unit was released before the run ended, so that it is no result\n", shell.Count(len(list.Conflicts), "conflict"))
		rows := [][]string{{"unit", "said", "station", "run", "told"}}
		for _, x := range list.Conflicts {
			rows = append(rows, []string{shell.OneLine(x.Unit), shell.OneLine(x.Verdict), shell.OneLine(x.Station), x.Run[:min(8, len(x.Run))], x.Told.Local().Format("2006-01-02 15:04:05")})
		}
		shell.Table(c.Out, rows)
	}
	return nil
}

func (c *unitsCommand) release(cmd *cobra.Command, args []string) error {
	known := append([]string{"all"}, unitStates[2:]...)
	states, err := c.states(cmd, known)
	if err != nil {
		return err
	}
	switch {
	case slices.Contains(states, "all"):
		states = unitStates[2:]
	case len(states) == 0:
		states = []string{string(verdict.Broken)}
	}
	l, err := shell.OpenLedger(cmd.Context(), c.ledger)
	if err != nil {
		return shell.WithExample(cmd, err)
	}
	return errors.Join(c.releaseUnits(cmd, l, args[0], args[1:], states), l.Close())
}

func (c *unitsCommand) releaseUnits(cmd *cobra.Command, l *ledger.Ledger, name string, units, states []string) error {
	ctx := cmd.Context()
	if _, err := batchOf(ctx, cmd, l, name); err != nil {
		return err
	}
	released, err := l.Release(ctx, name, units, states)
	if err != nil {
		return err
	}
	slices.Sort(released)
	for _, u := range released {
		fmt.Fprintf(c.Out, "%s goes out again\n", shell.OneLine(u))
	}
	var not []string
	for _, u := range units {
		if !slices.Contains(released, u) {
			not = append(not, u)
		}
	}
	if len(not) > 0 {
		all, err := l.Units(ctx, name, "")
		if err != nil {
			return err
		}
		return &session.Misuse{What: fmt.Sprintf("not released: %s", strings.Join(whyNot(all, not, states), "; "))}
	}
	if len(released) == 0 {
		fmt.Fprintf(c.Out, "no unit of %s is %s\n", shell.OneLine(name), strings.Join(states, ", "))
	}
	return nil
}

// whyNot tells of units why they were not released.
func whyNot(all []ledger.BatchUnit, not, states []string) (why []string) {
	for _, name := range not {
		i := slices.IndexFunc(all, func(u ledger.BatchUnit) bool { return u.Unit == name })
		switch {
		case i < 0:
			why = append(why, "there is no unit "+name)
		case all[i].State == ledger.Claimed:
			why = append(why, fmt.Sprintf("%s is in hand at %s until %s at least", name, all[i].Station, all[i].Lease.Local().Format("15:04:05")))
		case all[i].State == ledger.Waiting:
			why = append(why, name+" is open already")
		default:
			why = append(why, fmt.Sprintf("%s is %s, not %s: give --state %s", name, all[i].State, strings.Join(states, " or "), all[i].State))
		}
	}
	return why
}

// mostInRange is how many values a range adds at most.
const mostInRange = 1_000_000

// poolValues are the values that are to be added.
func (c *unitsCommand) poolValues(cmd *cobra.Command, words []string) (values []string, err error) {
	for _, w := range words {
		low, high, isRange := strings.Cut(w, "..")
		from, err1 := strconv.Atoi(low)
		to, err2 := strconv.Atoi(high)
		switch {
		case !isRange || err1 != nil || err2 != nil:
			values = append(values, w)
			continue
		case from > to || to-from >= mostInRange:
			return nil, shell.Usage(cmd, "%s: wanted LOW..HIGH, with a million values at most", w)
		}
		for n := from; n <= to; n++ {
			values = append(values, fmt.Sprintf("%0*d", len(low), n)) // 0011..0060 keeps its zeros
		}
	}
	if c.file == "" {
		return values, nil
	}
	f, err := source.Open(c.file)
	if err != nil {
		return nil, shell.Usage(cmd, "--file: %v", err)
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if v := strings.TrimSpace(lines.Text()); v != "" {
			values = append(values, v)
		}
	}
	return values, lines.Err()
}

func (c *unitsCommand) pool(cmd *cobra.Command, args []string) error {
	name := ""
	var words []string
	if len(args) > 0 {
		name, words = args[0], args[1:]
	}
	values, err := c.poolValues(cmd, words)
	if err != nil {
		return err
	}
	switch {
	case c.file != "" && name == "":
		return shell.Usage(cmd, "--file: name the pool first")
	case c.secret && name == "":
		return shell.Usage(cmd, "--secret: name the pool first")
	}
	return c.onLedger(cmd.Context(), func(ctx context.Context, l *ledger.Ledger) error {
		switch {
		case c.secret:
			return c.secrets(ctx, l, name, values)
		case len(values) == 0:
			return c.listPool(ctx, l, name)
		}
		added, err := l.Fill(ctx, name, values)
		return c.filled(name, added, len(values), err)
	})
}

// filled says what became of values that were to be added.
func (c *unitsCommand) filled(name string, added, all int, err error) error {
	if err == nil {
		fmt.Fprintf(c.Out, "pool %s: %s added, %d there already\n", shell.OneLine(name), shell.Count(added, "value"), all-added)
	}
	return unfilled(name, err)
}

// unfilled says what to do where a pool takes nothing.
func unfilled(name string, err error) error {
	if twice, is := errors.AsType[*ledger.SameNumber](err); is {
		return &session.Misuse{What: twice.Error() + ". Leave it out; nothing was added"}
	}
	if mixed, is := errors.AsType[*ledger.MixedPool](err); is {
		how := "hide them first, with uparrot units pool " + name + " --secret"
		if mixed.Secret {
			how = "add it with --secret"
		}
		return &session.Misuse{What: mixed.Error() + ": " + how + ". Nothing was added"}
	}
	if missing, is := errors.AsType[*ledger.KeyMissing](err); is {
		return &session.Misuse{What: missing.Error() + ". Copy the key from the station that filled the pool, or name its file with --pool-key. Nothing was added"}
	}
	return err
}

// secrets adds secrets to a pool, or hides the values that it has.
func (c *unitsCommand) secrets(ctx context.Context, l *ledger.Ledger, name string, values []string) error {
	file, err := session.PoolKey(c.key)
	if err != nil {
		return err
	}
	has, err := l.Pool(ctx, name)
	if err != nil {
		return err
	}
	if len(has)+len(values) == 0 {
		return &session.Misuse{What: fmt.Sprintf("there is no pool %q whose values could be hidden: add some", name)}
	}
	made := false
	if !slices.ContainsFunc(has, func(v ledger.PoolValue) bool { return v.Secret && !v.Clear }) { // else their key is wanted, not another
		if made, err = file.Make(); err != nil {
			return err
		}
	}
	if made {
		c.Err.Line("the key of secrets in pools was made: %s. Copy it to the other stations, and keep a copy apart\nfrom the ledger: without it nobody reads them", shell.OneLine(string(file)))
	}
	if len(values) == 0 || slices.ContainsFunc(has, func(v ledger.PoolValue) bool { return v.Clear }) {
		hidden, err := l.Hide(ctx, name, file)
		if err == nil {
			fmt.Fprintf(c.Out, "pool %s: %s hidden, %d secrets already\n", shell.OneLine(name), shell.Count(hidden, "value"), len(has)-hidden)
		}
		if err != nil || len(values) == 0 {
			return unfilled(name, err)
		}
	}
	added, err := l.FillSecrets(ctx, name, values, file)
	return c.filled(name, added, len(values), err)
}

func (c *unitsCommand) listPool(ctx context.Context, l *ledger.Ledger, name string) error {
	list, err := l.Pool(ctx, name)
	if err != nil {
		return err
	}
	if c.JSON {
		return c.PrintJSON(list)
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Out, "there is no such pool: add values with uparrot units pool NAME VALUE...")
		return nil
	}
	free, pools := map[string]int{}, []string{}
	rows := [][]string{{"pool", "value", "state", "unit", "input", "given"}}
	for _, v := range list {
		if !slices.Contains(pools, v.Pool) {
			pools = append(pools, v.Pool)
		}
		if v.State == "free" {
			free[v.Pool]++
			continue
		}
		value := v.Value
		if v.Secret {
			value = "[secret]"
		}
		state := v.State
		if state == "given" {
			state = "given, not known to be said"
		}
		rows = append(rows, []string{shell.OneLine(v.Pool), shell.OneLine(value), state, shell.OneLine(v.Unit), shell.OneLine(v.Name), v.Given.Local().Format(time.DateTime)})
	}
	if len(rows) > 1 {
		shell.Table(c.Out, rows)
		fmt.Fprintln(c.Out)
	}
	for _, p := range pools {
		fmt.Fprintf(c.Out, "pool %s: %d free\n", shell.OneLine(p), free[p])
		if slices.ContainsFunc(list, func(v ledger.PoolValue) bool { return v.Pool == p && v.Clear }) {
			fmt.Fprintf(c.Out, "its secrets lie in the ledger in clear: uparrot units pool %s --secret encrypts them\n", shell.OneLine(p))
		}
	}
	return nil
}
