package syserr

import (
	"syscall"

	"golang.org/x/sys/windows"
)

var numbers = map[Kind][]syscall.Errno{
	Refused:  {windows.WSAECONNREFUSED, windows.ERROR_CONNECTION_REFUSED},
	Unheard:  {windows.WSAECONNRESET, windows.WSAECONNREFUSED},
	InUse:    {windows.WSAEADDRINUSE, windows.WSAEACCES},
	NoRoute:  {windows.WSAEHOSTUNREACH, windows.WSAENETUNREACH},
	NoReader: {windows.ERROR_BROKEN_PIPE, windows.ERROR_NO_DATA},
	NotEmpty: {windows.ERROR_DIR_NOT_EMPTY},
	ReadOnly: {windows.ERROR_WRITE_PROTECT},
	Absent:   {windows.ERROR_FILE_NOT_FOUND, windows.ERROR_PATH_NOT_FOUND, windows.ERROR_NO_SUCH_DEVICE, windows.ERROR_DEVICE_NOT_CONNECTED},
	// What a read says when an adapter is pulled differs from driver to driver.
	Gone: {windows.ERROR_ACCESS_DENIED, windows.ERROR_BAD_COMMAND, windows.ERROR_GEN_FAILURE, windows.ERROR_DEVICE_NOT_CONNECTED,
		windows.ERROR_NO_SUCH_DEVICE, windows.ERROR_DEVICE_REMOVED, windows.ERROR_INVALID_HANDLE, windows.ERROR_OPERATION_ABORTED, windows.ERROR_IO_DEVICE},
	NoSignal: {windows.ERROR_INVALID_FUNCTION, windows.ERROR_NOT_SUPPORTED, windows.ERROR_INVALID_PARAMETER, windows.ERROR_CALL_NOT_IMPLEMENTED},
}
