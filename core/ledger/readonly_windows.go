package ledger

import "syscall"

// errReadOnly is what a medium that takes nothing says: ERROR_WRITE_PROTECT.
const errReadOnly = syscall.Errno(19)
