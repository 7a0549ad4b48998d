package cli

// heed does nothing: a program there is not stopped and set going again.
func (h *handover) heed() (end func()) { return func() {} }
