package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/source"
	"uparrot/core/station"
	"uparrot/core/talk"
)

// talkFlags are the flags of talk as given.
type talkFlags struct {
	ports     portFlags
	ending    string
	recording string
	plain     bool
	reopen    bool
	lasts     time.Duration
	until     string
}

func (a *app) talk() *cobra.Command {
	var f talkFlags
	cmd := &cobra.Command{
		Use:   "talk PORT [PORT]",
		Short: "Speak by hand: lines or keys, text or hex, one port or two",
		Long: `Opens a view in which lines or single keys go out and everything that comes is
shown with its time. F1 lists the keys.

In what you type, braces name bytes: {ctrl-z}, {esc}, {hex 04 A4}; {{ is a brace. A
phrase of the phrasebook is @NAME, or @NAME=VALUE to set it; Tab completes it.

Without a terminal, or with --plain, lines come from stdin, each said after the
answer to the one before, and what comes is printed.`,
		Example: "uparrot talk valley --bench larkfell.toml",
		Args:    args(1, 2, "one port or two"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ps, err := f.ports.read(cmd)
			if err != nil {
				return err
			}
			var until *pattern.Pattern
			if f.until != "" {
				if until, err = pattern.Compile(f.until); err != nil {
					return usage(cmd, "--until: %v", err)
				}
			}
			own := phrasebook.Setup{}
			if f.ending != "" {
				if !contains(phrasebook.EndingNames, f.ending) {
					return usage(cmd, "--ending: there is no line ending %q. %s", f.ending, source.DidYouMean(f.ending, phrasebook.EndingNames))
				}
				own.Ending = f.ending
			}
			ps.over = own.Or(ps.over)
			var stations []*station.Station
			for _, name := range args {
				st, err := ps.station(name, phrasebook.Setup{}, nil)
				if err != nil {
					return err
				}
				if len(stations) == 1 && st.Address == stations[0].Address {
					return usage(cmd, "both ports are %s", name)
				}
				stations = append(stations, st)
			}
			e, err := a.evidence(onlyRecord(f.recording), "talk", "talk", ps, stations)
			if err != nil {
				return err
			}
			var talkers []*talk.Talker
			for _, st := range stations {
				talkers = append(talkers, &talk.Talker{Station: st, Record: e.w, Reopen: f.reopen})
			}
			in, isFile := a.in.(*os.File)
			if f.plain || f.lasts > 0 || until != nil || !isFile || !term.IsTerminal(int(in.Fd())) || !a.outIsTerminal() {
				err = a.talkPlain(cmd.Context(), talkers, f, until)
			} else {
				err = a.talkView(cmd.Context(), talkers)
			}
			return e.end(err)
		},
	}
	f.ports.add(cmd)
	fl := cmd.Flags()
	fl.StringVar(&f.ending, "ending", "", "line ending: cr, lf, crlf or none")
	fl.StringVar(&f.recording, "record", "", recordHelp)
	fl.BoolVar(&f.plain, "plain", false, "no view: lines from stdin, what comes to stdout")
	fl.BoolVar(&f.reopen, "reopen", false, "wait for a port that has gone to come back")
	fl.DurationVar(&f.lasts, "for", 0, "end after this time (without the view)")
	fl.StringVar(&f.until, "until", "", "end when a line like this has come, as in heard text (without the view)")
	return cmd
}

func contains(list []string, s string) bool {
	for _, one := range list {
		if one == s {
			return true
		}
	}
	return false
}

func (a *app) outIsTerminal() bool {
	f, ok := a.out.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// talkPlain speaks without a view, so that talk works in a pipe.
func (a *app) talkPlain(ctx context.Context, talkers []*talk.Talker, f talkFlags, until *pattern.Pattern) error {
	if len(talkers) > 1 {
		return &errUsage{what: "without the view talk speaks with one port", example: "echo AT | uparrot talk valley --bench larkfell.toml"}
	}
	t := talkers[0]
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var log talk.Log
	shown := 0
	t.Tell = func(e talk.Event) {
		log.Add(e.Time, e.Kind, e.Bytes)
		for ; shown < log.Gone+len(log.Lines); shown++ {
			l := log.Lines[shown-log.Gone]
			if l.Open {
				break
			}
			if len(l.Bytes) == 0 || talk.Text(l.Bytes) == "" && l.Kind == talk.Heard {
				continue
			}
			fmt.Fprintf(a.out, "%s%s %s\n", talk.Clock.Stamp(l, nil), [...]string{"<", ">", "#"}[l.Kind], talk.Text(l.Bytes))
			if l.Kind == talk.Heard && until != nil {
				if _, ok := until.Match([]byte(talk.Text(l.Bytes))); ok {
					cancel(errSeen)
				}
			}
		}
		if e.Err != nil && !f.reopen {
			cancel(e.Err)
		}
	}
	if err := t.Open(ctx); err != nil {
		return err
	}
	if f.lasts > 0 {
		timer := time.AfterFunc(f.lasts, func() { cancel(errEnough) })
		defer timer.Stop()
	}
	lines := make(chan string)
	go func() {
		defer close(lines)
		in := bufio.NewScanner(a.in)
		for in.Scan() {
			select {
			case lines <- in.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	err := a.sayAll(ctx, t, lines, f.lasts > 0 || until != nil)
	switch {
	case errors.Is(err, errSeen), errors.Is(err, errEnough) && until == nil:
		err = nil
	case errors.Is(err, errEnough):
		a.err.line("uparrot: no line like %s came within %v", safe(f.until), f.lasts)
		err = errQuiet{exitFailed}
	}
	err = errors.Join(err, t.Close())
	// A line without its end, such as a prompt, is worth showing too.
	if n := len(log.Lines); n > 0 && log.Lines[n-1].Open {
		fmt.Fprintf(a.out, "%s< %s\n", talk.Clock.Stamp(log.Lines[n-1], nil), talk.Text(log.Lines[n-1].Bytes))
	}
	return err
}

// What ends a conversation without the view: the time asked for is over, or the
// line waited for has come.
var (
	errEnough = errors.New("the time is over")
	errSeen   = errors.New("the line has come")
)

// sayAll says lines until there are no more; then it waits for the last answer,
// or goes on listening until it is told to stop.
func (a *app) sayAll(ctx context.Context, t *talk.Talker, lines <-chan string, goOn bool) error {
	phrases := talk.Phrases(t.Station.Phrasebook)
	for {
		select {
		case l, ok := <-lines:
			if !ok {
				if ctx.Err() != nil { // the lines ended because all has
					return context.Cause(ctx)
				}
				if goOn {
					<-ctx.Done()
					return context.Cause(ctx)
				}
				return nil
			}
			text, whole, err := talk.Words(phrases, l)
			if err != nil {
				return &errUsage{what: err.Error()}
			}
			if err := t.Say(ctx, whole, text); err != nil {
				return err
			}
			if err := t.Answered(ctx); err != nil && (ctx.Err() != nil || port.KindOf(err) != port.Other) {
				return err
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
