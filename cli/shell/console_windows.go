package shell

import (
	"os"

	"golang.org/x/sys/windows"
)

// readyConsole has a console of Windows understand control codes. One that does not is drawn nothing on.
func readyConsole(f *os.File) bool {
	var mode uint32
	h := windows.Handle(f.Fd())
	if windows.GetConsoleMode(h, &mode) != nil {
		return false
	}
	return windows.SetConsoleMode(h, mode|windows.ENABLE_PROCESSED_OUTPUT|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) == nil
}
