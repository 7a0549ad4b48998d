package view

import (
	"context"
	"errors"
	"os"

	tea "charm.land/bubbletea/v2"

	"uparrot/cli/shell"
)

// Program is what draws a view at the terminal, so many times a second at most. A terminal that goes away
// calls gone: not everywhere does a signal tell of it.
func Program(ctx context.Context, sh *shell.Streams, m tea.Model, fps int, gone func()) *tea.Program {
	in := sh.In
	if f, ok := in.(*os.File); ok {
		in = &shell.NoticedInput{File: f, Gone: gone}
	}
	return tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(sh.Out), tea.WithoutSignalHandler(), tea.WithFPS(fps))
}

// During draws a view while do goes on, and takes it away then. Where the person leaves it before, left is
// called, and do is waited for.
func During(program *tea.Program, left, do func()) error {
	var terminal shell.TerminalState
	terminal.Set(program.ReleaseTerminal, program.RestoreTerminal)
	defer terminal.RestoreOnStop()()
	over := make(chan struct{})
	go func() {
		defer close(over)
		do()
		program.Quit()
	}()
	_, err := program.Run()
	left()
	<-over
	if errors.Is(err, tea.ErrProgramKilled) { // its context was done, which do has told
		return nil
	}
	return err
}
