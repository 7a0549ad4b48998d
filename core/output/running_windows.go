package output

import "os"

// Running reports whether there is a program of that number.
func Running(pid int) bool {
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	_ = p.Release() // it was only looked for
	return true
}
