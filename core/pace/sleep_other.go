//go:build !linux

package pace

import "time"

// Precise is a plain sleep on this system.
func Precise(d time.Duration) { time.Sleep(min(d, slice)) }
