package speak

import (
	"time"

	"github.com/spf13/cobra"

	"uparrot/cli/shell"
	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/talk"
	"uparrot/core/verdict"
)

// talkCommand is the command talk with its flags.
type talkCommand struct {
	*shell.Streams
	ports     shell.PortFlags
	keeps     shell.EvidenceFlags
	signs     shell.SignFlags
	secrets   session.Secrets
	wait      dialog.Answer
	gap       time.Duration // between packets; 0 is what is known of the port
	ending    string
	plain     bool
	reopen    bool
	lasts     time.Duration
	untilText string
	until     *pattern.Pattern // nil if nothing ends it
}

// Talk is the command talk.
func Talk(sh *shell.Streams) *cobra.Command {
	c := &talkCommand{Streams: sh}
	cmd := &cobra.Command{
		Use:   "talk PORT [PORT...]",
		Short: "Speak by hand: lines or keys, text or hex, up to four ports",
		Long: `Opens a view in which lines or single keys go out and everything that comes is
shown with its time. F1 lists the keys.

Each line is said when the answer to the one before has ended: by a final result, a
refusal or a prompt, as the dialect, the phrasebook, --final and --prompt tell them, or
by a question. Where none is known it has ended when something has come and then
nothing more for a while: --rest, or by itself about four times as long as the module
pauses within its answers. Where nothing comes within --within, that is said.

In what you type, braces name bytes: {ctrl-z}, {esc}, {hex 04 A4}; {{ is a brace.
{secret NAME} is a secret, from the environment (UPARROT_ and its name in capitals) or
--secret-file. A phrase of the phrasebook is @NAME, or @NAME=VALUE to set it; Tab
completes it. What is said after a question for a password or the like is kept secret.

Without a terminal, or with --plain, lines come from stdin, and what comes is printed;
with several ports a line is PORT: WORDS. A line that got no answer makes the status 1.`,
		Example: "uparrot talk valley --bench larkfell.toml",
		Args:    shell.Args(1, 4, "one port to four"),
		RunE:    c.run,
	}
	c.ports.Add(cmd)
	c.keeps.AddRecord(cmd)
	c.signs.Add(cmd)
	fl := cmd.Flags()
	fl.DurationVar(&c.wait.Within, "within", talk.AnswerTime, "how long an answer is waited for")
	fl.DurationVar(&c.wait.Rest, "rest", 0, "where nothing tells that an answer has ended: so long nothing more must come")
	fl.DurationVar(&c.gap, "gap", 0, "cut what comes where the line was silent for so long, not at line ends (dialect bytes does, at 20ms)")
	fl.StringArrayVar(&c.secrets.Files, "secret-file", nil, "file that holds a secret: NAME=FILE")
	fl.StringVar(&c.ending, "ending", "", "line ending: cr, lf, crlf or none")
	fl.BoolVar(&c.plain, "plain", false, "no view: lines from stdin, what comes to stdout")
	fl.BoolVar(&c.reopen, "reopen", false, "wait for a port that has gone to come back")
	fl.DurationVar(&c.lasts, "for", 0, "end after this time (without the view)")
	fl.StringVar(&c.untilText, "until-heard", "", "end when a line like this has come, as in heard text (without the view)")
	return cmd
}

func (c *talkCommand) run(cmd *cobra.Command, args []string) error {
	ps, err := c.ports.Read(cmd)
	if err != nil {
		return err
	}
	if c.untilText != "" {
		if c.until, err = pattern.Compile(c.untilText); err != nil {
			return shell.Usage(cmd, "--until-heard: %v", err)
		}
		if len(c.until.Exprs()) > 0 {
			return shell.Usage(cmd, "--until-heard: there are no values here to compare with: write the text itself, and ... for what may vary")
		}
	}
	if c.ending != "" {
		if ps.Over.Ending, err = phrasebook.ParseEnding(c.ending); err != nil {
			return shell.Usage(cmd, "--ending: %v", err)
		}
	}
	if err := c.signs.Into(cmd, &ps.Over); err != nil {
		return err
	}
	if c.gap < 0 || c.gap == 0 && cmd.Flags().Changed("gap") {
		return shell.Usage(cmd, "--gap is a time of silence, above zero")
	}
	if c.wait.Within <= 0 || c.wait.Rest < 0 {
		return shell.Usage(cmd, "--within and --rest are times to wait, above zero")
	}
	stations, err := ps.Stations(args...)
	if err != nil {
		return err
	}
	c.keeps.NoFiling, c.keeps.Quiet = true, true // it is no test of a unit
	c.keeps.Also = &shell.Outputs{}
	_, err = c.Conduct(cmd.Context(), c.keeps, shell.About("talk", "talk", ps, stations...), nil, func(events *record.Stream) (verdict.Verdict, error) {
		var talkers []*talk.Talker
		for _, st := range stations {
			talkers = append(talkers, &talk.Talker{Station: st, Events: events, Reopen: c.reopen, Wait: c.wait})
		}
		if c.plain || c.lasts > 0 || c.until != nil || !shell.IsTerminal(c.In) || !shell.Drawable(c.Out) {
			return verdict.Measured, c.talkPlain(cmd.Context(), talkers)
		}
		return verdict.Measured, c.talkView(cmd, talkers)
	})
	return shell.WithVerdict(verdict.Measured, err)
}

// gapOf is the silence at which what comes at a port is cut into packets; 0 if it is cut
// into lines.
func (c *talkCommand) gapOf(t *talk.Talker) time.Duration {
	gap := t.Station.Setup.Gap
	if c.gap > 0 {
		gap = phrasebook.Gap(c.gap)
	} else if t.Station.Setup.Dialect != phrasebook.Bytes {
		return 0
	}
	return gap.Beside(t.LeastGap())
}
