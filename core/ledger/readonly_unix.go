//go:build !windows

package ledger

import "syscall"

// errReadOnly is what a file system that takes nothing says.
const errReadOnly = syscall.EROFS
