package families

import (
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
	"uparrot/core/uart"
)

// twite is a wireless network module, made up for the Larkfell cableway. After
// power-up it sends noise at another speed, then ":up 5.2". Its commands are
// lines that end with CR LF, its answers lines that begin with a colon:
//
//	:who                       ":who twite 5.2"
//	:net "NAME","KEY"          ":net 10.20.0.17" after a moment, or ":no 5"
//	:net                       ":net 10.20.0.17", or ":net none"
//	:open N,tcp|udp,HOST,PORT  ":open N", or ":no 7"; N is 1 to 4
//	:send N,BYTES              a prompt "give> " without line end; then exactly so
//	                           many bytes, and ":sent BYTES"
//	:shut N                    ":shut N"
//	:restart                   ":bye", noise, and ":up 5.2"
//
// By itself it sends ":came N,BYTES,..." when bytes have come and ":gone N" when
// the other side has closed. Refusals: ":no 1" no such command, 2 a value does
// not fit, 4 there is no network, 5 the network does not take the key, 6 there
// is no such socket, 7 nobody answers there, 8 the host is not this machine.
//
// The other end is a real socket; only hosts of this machine are taken.
type twite struct {
	*sim.Unit
	bench *sim.Bench
	typed typed

	up      bool
	joined  bool
	network string
	key     string
	sockets [5]net.Conn // 1 to 4
	sending int         // the socket that bytes are coming for, 0 if none
	wanted  int         // ... and how many still
	payload []byte
}

const (
	twiteBoot  = 700 * time.Millisecond
	twiteJoin  = 800 * time.Millisecond
	twiteNoise = 31250 // baud
	twiteMost  = 512   // bytes in one send
	twiteOwn   = "10.20.0.17"
)

func newTwite(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	t := &twite{Unit: u, bench: b, up: true, network: "larkfell", key: "frost-and-rime"}
	for key, v := range u.Settings {
		switch key {
		case "network":
			t.network = v
		case "key":
			t.key = v
		default:
			return nil, fmt.Errorf("a Twite has the settings network and key, not %s", key)
		}
	}
	return t, nil
}

func (t *twite) Power(at time.Time, on bool) {
	for n := range t.sockets {
		t.shut(n)
	}
	*t = twite{Unit: t.Unit, bench: t.bench, network: t.network, key: t.key}
	if !on {
		return
	}
	t.SendAs(at, []byte(t.bench.BootNoise(60)), uart.Line{Speed: twiteNoise})
	t.bench.Later(t.Unit, at.Add(twiteBoot), func(at time.Time) {
		t.up = true
		t.reply(at, "up 5.2")
	})
}

func (t *twite) reply(at time.Time, text string) { t.Say(at, "\r\n:"+text+"\r\n") }

func (t *twite) Heard(at time.Time, b []byte) {
	if !t.up {
		return
	}
	for _, c := range b {
		if t.sending > 0 && !t.typed.ends.Pairs(c) { // the second half of a command's end is no payload
			t.typed.ends.Pass()
			t.payload = append(t.payload, c)
			if t.wanted--; t.wanted == 0 {
				t.send(at)
			}
			continue
		}
		if line, over := t.typed.take(c); over && line != "" {
			t.obey(at, line)
		}
	}
}

func (t *twite) obey(at time.Time, line string) {
	word, rest, _ := strings.Cut(line, " ")
	args := strings.Split(rest, ",")
	socket, err := strconv.Atoi(args[0])
	if err != nil || socket < 1 || socket >= len(t.sockets) {
		socket = 0
	}
	switch word {
	case ":who":
		t.reply(at, "who twite 5.2")
	case ":restart":
		t.reply(at, "bye")
		t.Power(at.Add(50*time.Millisecond), true)
	case ":net":
		t.net(at, rest, args)
	case ":open":
		t.open(at, socket, args)
	case ":send":
		n, err := 0, error(nil)
		if len(args) == 2 {
			n, err = strconv.Atoi(args[1])
		}
		switch {
		case len(args) != 2 || err != nil || n < 1 || n > twiteMost:
			t.reply(at, "no 2")
		case t.sockets[socket] == nil:
			t.reply(at, "no 6")
		default:
			t.sending, t.wanted, t.payload = socket, n, nil
			t.Say(at, "\r\ngive> ")
		}
	case ":shut":
		if t.sockets[socket] == nil {
			t.reply(at, "no 6")
			return
		}
		t.shut(socket)
		t.reply(at, fmt.Sprintf("shut %d", socket))
	default:
		t.reply(at, "no 1")
	}
}

func (t *twite) net(at time.Time, rest string, args []string) {
	if rest == "" {
		if t.joined {
			t.reply(at, "net "+twiteOwn)
		} else {
			t.reply(at, "net none")
		}
		return
	}
	name, ok1 := unquote(args[0])
	key, ok2 := unquote(args[len(args)-1])
	if len(args) != 2 || !ok1 || !ok2 {
		t.reply(at, "no 2")
		return
	}
	t.bench.Later(t.Unit, at.Add(twiteJoin), func(at time.Time) {
		if name != t.network || key != t.key {
			t.reply(at, "no 5")
			return
		}
		t.joined = true
		t.reply(at, "net "+twiteOwn)
	})
}

func unquote(s string) (string, bool) {
	if len(s) < 2 || s[0] != '"' || s[len(s)-1] != '"' {
		return "", false
	}
	return s[1 : len(s)-1], true
}

func (t *twite) open(at time.Time, socket int, args []string) {
	if socket == 0 || len(args) != 4 || args[1] != "tcp" && args[1] != "udp" {
		t.reply(at, "no 2")
		return
	}
	host, err := netip.ParseAddr(args[2])
	switch {
	case err != nil:
		t.reply(at, "no 2")
		return
	case !host.IsLoopback():
		t.reply(at, "no 8")
		return
	case !t.joined:
		t.reply(at, "no 4")
		return
	}
	powers := t.Powers()
	go func() { // the network takes its own time
		conn, err := t.bench.Dial(args[1], net.JoinHostPort(args[2], args[3]), 3*time.Second)
		t.bench.Plan(time.Now(), func(at time.Time) {
			switch {
			case err != nil:
				t.reply(at, "no 7")
			case t.Powers() != powers:
				conn.Close()
			default:
				t.shut(socket)
				t.sockets[socket] = conn
				t.bench.CloseLater(conn)
				t.reply(at, fmt.Sprintf("open %d", socket))
				go t.listen(socket, conn)
			}
		})
	}()
}

// listen tells the host what comes out of the network.
func (t *twite) listen(socket int, conn net.Conn) {
	buf := make([]byte, twiteMost)
	for {
		n, err := conn.Read(buf)
		text := string(buf[:n])
		t.bench.Plan(time.Now(), func(at time.Time) {
			if t.sockets[socket] != conn {
				return
			}
			if text != "" {
				t.reply(at, fmt.Sprintf("came %d,%d,%s", socket, len(text), text))
			}
			if err != nil {
				t.shut(socket)
				if err == io.EOF {
					t.reply(at, fmt.Sprintf("gone %d", socket))
				}
			}
		})
		if err != nil {
			return
		}
	}
}

func (t *twite) send(at time.Time) {
	conn := t.sockets[t.sending]
	n := len(t.payload)
	t.sending = 0
	if conn == nil {
		t.reply(at, "no 6")
		return
	}
	if _, err := conn.Write(t.payload); err != nil {
		t.reply(at, "no 7")
		return
	}
	t.reply(at, fmt.Sprintf("sent %d", n))
}

func (t *twite) shut(socket int) {
	if conn := t.sockets[socket]; conn != nil {
		conn.Close() // whether it was open still does not matter
		t.sockets[socket] = nil
	}
}
