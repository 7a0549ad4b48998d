package shell

// RestoreOnStop does nothing: a program there is not stopped and set going again.
func (h *TerminalState) RestoreOnStop() (end func()) { return func() {} }
