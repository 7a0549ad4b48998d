//go:build unix

package syserr

import "syscall"

var numbers = map[Kind][]syscall.Errno{
	Refused:  {syscall.ECONNREFUSED},
	Unheard:  {syscall.ECONNREFUSED},
	InUse:    {syscall.EADDRINUSE},
	NoRoute:  {syscall.EHOSTUNREACH, syscall.ENETUNREACH},
	NoReader: {syscall.EPIPE},
	NotEmpty: {syscall.ENOTEMPTY},
	ReadOnly: {syscall.EROFS},
	Absent:   {syscall.ENXIO, syscall.ENODEV},
	Gone:     {syscall.EIO, syscall.ENXIO, syscall.ENODEV, syscall.EBADF},
	NoSignal: {syscall.ENOTTY, syscall.EINVAL},
}
