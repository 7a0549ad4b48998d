package session

import (
	"crypto/rand"
	"errors"
	"net"
	"os"
	"strings"
)

// listenForOrders listens on this machine's own network, since not every Windows has sockets in
// the file system. A file in the place of one has the address, and a key that orders begin with:
// the file's rights keep it.
func listenForOrders(path string) (ln net.Listener, key string, err error) {
	if ln, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, "", err
	}
	key = rand.Text() + " "
	if err := os.WriteFile(path, []byte(ln.Addr().String()+" "+key), 0o600); err != nil {
		return nil, "", errors.Join(err, ln.Close())
	}
	return &orderListener{ln, path}, key, nil
}

// orderListener takes its file along when it is closed.
type orderListener struct {
	net.Listener
	path string
}

func (l *orderListener) Close() error { return errors.Join(l.Listener.Close(), os.Remove(l.path)) }

func dialForOrders(path string) (conn net.Conn, key string, err error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, "", err
	}
	at, key, _ := strings.Cut(string(b), " ")
	conn, err = net.Dial("tcp", at)
	return conn, key, err
}
