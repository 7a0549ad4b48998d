//go:build linux

package hostile

import (
	"io"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uparrot/tests/loopback"
)

// flood sends something for ever, and reads nothing.
func flood(what string) func(net.Conn) {
	block := []byte(strings.Repeat(what, max(1, 64<<10/len(what))))
	return func(conn net.Conn) {
		for {
			if _, err := conn.Write(block); err != nil {
				return
			}
		}
	}
}

// answer answers whatever comes with something.
func answer(with string) func(net.Conn) {
	return func(conn net.Conn) {
		buf := make([]byte, 4096)
		for {
			if _, err := conn.Read(buf); err != nil {
				return
			}
			if _, err := io.WriteString(conn, with); err != nil {
				return
			}
		}
	}
}

// behaviours are what a server may do, and whether a report of it is worth making.
var behaviours = []struct {
	name   string
	do     func(net.Conn)
	report bool
}{
	{"closes at once", func(net.Conn) {}, false},
	{"says why and closes", func(c net.Conn) { io.WriteString(c, "port in use "+harm+"\r\n") }, false},
	{"never answers", func(c net.Conn) { io.Copy(io.Discard, c) }, false},
	{"never reads", func(net.Conn) { time.Sleep(time.Minute) }, false},
	{"floods with zeros", flood("\x00"), false},
	{"floods with lines", flood("x\r\n"), false},
	{"floods without a line end", flood("OK"), false},
	{"floods with harm", flood(harm + "\r\n"), false},
	{"floods with options", flood("\xff\xfb\x2c\xff\xfd\x01"), false},
	{"floods with subnegotiations", flood("\xff\xfa\x2c\x6a\x01\xff\xf0"), false},
	{"never ends a subnegotiation", flood("\xff\xfa\x2c"), false},
	{"refuses all options", answer("\xff\xfe\x2c\xff\xfc\x2c"), false},
	{"echoes", func(c net.Conn) { io.Copy(c, c) }, true},
	{"answers with harm", answer(harm + "\r\nOK\r\n" + harm), true},
	{"answers with bytes", answer("\x80\xff\xf0\xfe\x00\x01"), true},
	{"asks for a password", answer("\r\nPassword: "), false},
	{"hides its answer", answer("\x1b[8m\x1b[2K\rOK\r\x1b[0m\n"), true},
}

// TestServers has every command that opens a port meet servers, and modules behind
// them, that mean harm.
func TestServers(t *testing.T) {
	t.Parallel()
	var trials []trial
	for _, b := range behaviours {
		at := loopback.Serve(t, b.do)
		for _, scheme := range []string{"tcp", "rfc2217"} {
			where := scheme + "://" + at
			for _, args := range [][]string{
				{"run", "commission.parrot", "--port", "valley=" + where, "--set", "address=1"}, {"run", "tower.parrot", "--port", "tower=" + where},
				{"talk", where, "--for", "1s"}, {"probe", where}, {"loopback", where, "--no-ask"}, {"link", "answer", where, "--phrasebook", "dunlin.toml"},
				{"link", "test", where, where, "--phrasebook", "dunlin.toml", "--count", "5"},
			} {
				if args[1] == "commission.parrot" {
					args[3] = "radio=" + where
				}
				dir := bench(t, nil)
				trials = append(trials, trial{name: b.name + ": " + scheme + " " + strings.Join(args[:2], " "), dir: dir,
					args: append(args, "--record", filepath.Join(dir, "t.record"), "--no-ledger"), stop: time.Second, report: b.report && args[0] == "run"})
			}
		}
	}
	hold(t, trials)
}
