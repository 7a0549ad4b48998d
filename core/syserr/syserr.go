// Package syserr tells what the system said went wrong, whatever number the system has for it.
package syserr

import (
	"errors"
	"slices"
	"syscall"
)

// Is reports whether an error is of a kind.
func Is(err error, kind Kind) bool {
	number, ok := errors.AsType[syscall.Errno](err)
	return ok && slices.Contains(numbers[kind], number)
}

// Kind is what may go wrong with files, ports and connections.
type Kind int

// The kinds.
const (
	Refused  Kind = iota // nothing listens at that port of the network
	Unheard              // the datagram before this one found nobody
	InUse                // another program listens there
	NoRoute              // there is no way to that network
	NoReader             // nobody reads the pipe any more
	NotEmpty             // the folder has something in it
	ReadOnly             // the file system takes nothing
	Absent               // there is no such device
	Gone                 // the device was taken away
	NoSignal             // the device does not have what was asked for, such as signal lines
)
