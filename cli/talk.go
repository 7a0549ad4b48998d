package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/talk"
	"uparrot/core/text"
	"uparrot/core/verdict"
)

// talkCommand is the command talk with its flags.
type talkCommand struct {
	*app
	ports     portFlags
	keeps     evidenceFlags
	ending    string
	plain     bool
	reopen    bool
	lasts     time.Duration
	untilText string
	until     *pattern.Pattern // nil if nothing ends it
}

func (a *app) talk() *cobra.Command {
	c := &talkCommand{app: a}
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
		RunE:    c.run,
	}
	c.ports.add(cmd)
	c.keeps.addRecord(cmd)
	fl := cmd.Flags()
	fl.StringVar(&c.ending, "ending", "", "line ending: cr, lf, crlf or none")
	fl.BoolVar(&c.plain, "plain", false, "no view: lines from stdin, what comes to stdout")
	fl.BoolVar(&c.reopen, "reopen", false, "wait for a port that has gone to come back")
	fl.DurationVar(&c.lasts, "for", 0, "end after this time (without the view)")
	fl.StringVar(&c.untilText, "until-heard", "", "end when a line like this has come, as in heard text (without the view)")
	return cmd
}

func (c *talkCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.read(cmd)
	if err != nil {
		return err
	}
	if c.untilText != "" {
		if c.until, err = pattern.Compile(c.untilText); err != nil {
			return usage(cmd, "--until-heard: %v", err)
		}
	}
	if c.ending != "" {
		if ps.Over.Ending, err = phrasebook.ParseEnding(c.ending); err != nil {
			return usage(cmd, "--ending: %v", err)
		}
	}
	stations, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	c.keeps.NoFiling, c.keeps.quiet = true, true // it is no test of a unit
	_, err = c.conduct(cmd.Context(), c.keeps, at("talk", "talk", ps, stations...), nil, func(events *record.Stream) (verdict.Verdict, error) {
		var talkers []*talk.Talker
		for _, st := range stations {
			talkers = append(talkers, &talk.Talker{Station: st, Events: events, Reopen: c.reopen})
		}
		in, isFile := c.in.(*os.File)
		if c.plain || c.lasts > 0 || c.until != nil || !isFile || !term.IsTerminal(int(in.Fd())) || !c.outIsTerminal() {
			return verdict.Measured, c.talkPlain(cmd.Context(), talkers)
		}
		return verdict.Measured, c.talkView(cmd.Context(), talkers)
	})
	return withVerdict(verdict.Measured, err)
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
func (a *talkCommand) talkPlain(ctx context.Context, talkers []*talk.Talker) error {
	if len(talkers) > 1 {
		return &session.Misuse{What: "without the view talk speaks with one port", Example: "echo AT | uparrot talk valley --bench larkfell.toml"}
	}
	t := talkers[0]
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	p := &printer{talkCommand: a, cancel: cancel}
	t.Tell = p.tell
	if err := t.Open(ctx); err != nil {
		return err
	}
	if a.lasts > 0 {
		timer := time.AfterFunc(a.lasts, func() { cancel(errEnough) })
		defer timer.Stop()
	}
	lines := linesOf(ctx, a.in)
	err := a.sayAll(ctx, t, lines, a.lasts > 0 || a.until != nil)
	switch {
	case errors.Is(err, errSeen), errors.Is(err, errEnough) && a.until == nil:
		err = nil
	case errors.Is(err, errEnough):
		a.err.line("uparrot: no line like %s came within %v", safe(a.untilText), a.lasts)
		err = errQuiet{exitFailed}
	}
	err = errors.Join(err, t.Close())
	p.rest()
	return err
}

// printer prints what is said and heard without the view.
type printer struct {
	*talkCommand
	cancel context.CancelCauseFunc
	log    talk.Log
	shown  int
}

// tell prints the lines that are whole, and ends the conversation when the one
// waited for has come or the port has gone.
func (p *printer) tell(e talk.Event) {
	p.log.Add(e.Time, e.Kind, e.Bytes)
	for ; p.shown < p.log.Gone+len(p.log.Lines); p.shown++ {
		l := p.log.Lines[p.shown-p.log.Gone]
		if l.Open {
			break
		}
		words := text.Shown(l.Bytes)
		if len(l.Bytes) == 0 || words == "" && l.Kind == talk.Heard {
			continue
		}
		fmt.Fprintf(p.out, "%s%s %s\n", talk.Clock.Stamp(l, nil), [...]string{"<", ">", "#"}[l.Kind], words)
		if l.Kind == talk.Heard && p.until != nil {
			if _, ok := p.until.Match([]byte(words)); ok {
				p.cancel(errSeen)
			}
		}
	}
	if e.Err != nil && !p.reopen {
		p.cancel(e.Err)
	}
}

// rest prints a line without its end, such as a prompt, which is worth showing too.
func (p *printer) rest() {
	if n := len(p.log.Lines); n > 0 && p.log.Lines[n-1].Open {
		fmt.Fprintf(p.out, "%s< %s\n", talk.Clock.Stamp(p.log.Lines[n-1], nil), text.Shown(p.log.Lines[n-1].Bytes))
	}
}

// linesOf are the lines of an input, until ctx is done.
func linesOf(ctx context.Context, in io.Reader) <-chan string {
	lines := make(chan string)
	go func() {
		defer close(lines)
		for s := bufio.NewScanner(in); s.Scan(); {
			select {
			case lines <- s.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	return lines
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
				return &session.Misuse{What: err.Error()}
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
