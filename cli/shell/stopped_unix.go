//go:build unix

package shell

import (
	"os"
	"os/signal"
	"syscall"
)

// RestoreOnStop has the terminal handed back before the program is stopped by SIGTSTP, and taken
// again when it goes on, until end is called.
func (h *TerminalState) RestoreOnStop() (end func()) {
	stops, goesOn := make(chan os.Signal, 1), make(chan os.Signal, 1)
	signal.Notify(stops, syscall.SIGTSTP)
	over := make(chan struct{})
	go func() {
		for {
			select {
			case <-stops:
			case <-over:
				return
			}
			if h.giveBack() != nil {
				continue // better not stopped than with a terminal that shows nothing
			}
			signal.Notify(goesOn, syscall.SIGCONT)
			_ = syscall.Kill(os.Getpid(), syscall.SIGSTOP)
			<-goesOn
			signal.Stop(goesOn)
			h.takeAgain()
		}
	}()
	return func() {
		signal.Stop(stops)
		close(over)
	}
}
