//go:build unix

package session

import "net"

// listenForOrders listens at a socket in the file system, which its folder's rights keep; no key
// is needed there.
func listenForOrders(path string) (ln net.Listener, key string, err error) {
	ln, err = net.Listen("unix", path)
	return ln, "", err
}

func dialForOrders(path string) (conn net.Conn, key string, err error) {
	conn, err = net.Dial("unix", path)
	return conn, "", err
}
