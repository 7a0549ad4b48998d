package port

import (
	"errors"
	"net"
	"sync"
	"time"
)

// errNobody is what writing to a listening port brings before anybody is there.
var errNobody = errors.New("nobody has spoken yet, so there is nobody to answer")

// tcpListener listens and speaks with whoever has connected, one at a time. When
// one leaves, the next may come.
type tcpListener struct {
	net.Listener

	came chan struct{} // has something in it when somebody has come

	mu   sync.Mutex
	conn net.Conn // nil while nobody is there
}

func (l *tcpListener) client() net.Conn {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn
}

func (l *tcpListener) Read(b []byte) (int, error) {
	for {
		conn := l.client()
		if conn == nil {
			var err error
			if conn, err = l.Accept(); err != nil {
				return 0, err
			}
			l.mu.Lock()
			l.conn = conn
			l.mu.Unlock()
			select {
			case l.came <- struct{}{}:
			default: // nobody has looked since the last one
			}
		}
		n, err := conn.Read(b)
		if err != nil {
			conn.Close()
			l.mu.Lock()
			l.conn = nil
			l.mu.Unlock()
		}
		if n > 0 {
			return n, nil
		}
	}
}

func (l *tcpListener) Write(b []byte) (int, error) {
	timer := time.NewTimer(clientTime) // whoever was told to connect may be on the way
	defer timer.Stop()
	for {
		conn := l.client()
		if conn != nil {
			return conn.Write(b)
		}
		select {
		case <-l.came:
		case <-timer.C:
			return 0, errNobody
		}
	}
}

// clientTime is how long a listening port that speaks first waits for somebody.
const clientTime = 2 * time.Second

func (l *tcpListener) Close() error {
	err := l.Listener.Close()
	if conn := l.client(); conn != nil {
		conn.Close()
	}
	return err
}
