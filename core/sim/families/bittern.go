package families

import (
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"uparrot/core/sim"
)

// bittern is a station controller with a console, made up for the Larkfell
// cableway. It boots with a long log. Model B1 shows the prompt "bittern> " after
// Enter and keeps its network settings; model B2 asks for a name and a code
// first, prints colours and has log files.
//
// B1: help, net, net address A, net mask BITS, net gateway A, status, restart.
// The net settings take effect after a restart, and the gateway must then be in
// the net. A B1 whose address is of this machine's own (127.0.0.0/8) takes TCP
// connections there, at the port of the setting service.
//
// B2: help, status, logs, show FILE, leave.
type bittern struct {
	*sim.Unit
	bench *sim.Bench
	typed typed
	model string

	up    bool
	state int // of a B2: who is asked for
	who   string
	code  string // that lets a B2's user in

	now, next bitternNet
	service   string
	listener  net.Listener
}

type bitternNet struct {
	address, gateway string
	mask             int
}

// What a B2 waits for.
const (
	askName = iota
	askCode
	atWork
)

const (
	bitternPrompt = "bittern> "
	bitternBoot   = 2500 * time.Millisecond
	bitternUser   = "ops"
)

func newBittern(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	c := &bittern{Unit: u, bench: b, model: "B1", code: "snowline", up: true}
	c.now = bitternNet{"10.20.0.9", "10.20.0.1", 24}
	for key, v := range u.Settings {
		switch key {
		case "model":
			c.model = strings.ToUpper(v)
		case "address":
			c.now.address = v
		case "gateway":
			c.now.gateway = v
		case "service":
			c.service = v
		case "code":
			c.code = v
		default:
			return nil, fmt.Errorf("a Bittern has the settings model, address, gateway, service and code, not %s", key)
		}
	}
	if c.model != "B1" && c.model != "B2" {
		return nil, fmt.Errorf("there is no Bittern %s: there are B1 and B2", c.model)
	}
	c.next = c.now
	if c.model == "B1" {
		c.serve()
	}
	return c, nil
}

// serve takes connections at the module's address, if it is one of this machine
// alone. Nothing is said to who connects.
func (c *bittern) serve() {
	c.hangUp()
	address, err := netip.ParseAddr(c.now.address)
	if c.bench.NoNetwork || c.service == "" || err != nil || !address.IsLoopback() {
		return
	}
	ln, err := net.Listen("tcp", net.JoinHostPort(c.now.address, c.service))
	if err != nil {
		return // the address cannot be reached then, as with a module that has a fault
	}
	c.listener = ln
	c.bench.CloseLater(ln)
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return // closed
			}
			conn.Close()
		}
	}()
}

func (c *bittern) hangUp() {
	if c.listener != nil {
		c.listener.Close() // closed twice at the worst
		c.listener = nil
	}
}

func (c *bittern) Power(at time.Time, on bool) {
	c.up, c.state, c.typed = false, askName, typed{}
	c.hangUp()
	if on {
		c.boot(at)
	}
}

// bootLines is the log of a boot; %s is the model.
var bootLines = []string{
	"loader 0.8, checking memory", "memory 64 MiB good", "flash 16 MiB good", "loading image, sector 0",
	"image good, starting", "clock 40 MHz", "bus 0: two devices", "bus 1: no device", "watchdog armed",
	"mounting store", "store clean", "model Bittern %s, release 4.12", "reading settings", "cabinet fan on",
	"door contact closed", "rope sensor 1 present", "rope sensor 2 present", "heater off", "console ready, press Enter",
}

func (c *bittern) boot(at time.Time) {
	c.up = false
	c.Say(at, c.bench.BootNoise(12))
	colours := []string{"\x1b[32mgood\x1b[0m ", "\x1b[33mnote\x1b[0m ", "\x1b[36minfo\x1b[0m "}
	step := bitternBoot / time.Duration(len(bootLines))
	for i, text := range bootLines {
		if strings.Contains(text, "%s") {
			text = fmt.Sprintf(text, c.model)
		}
		colour := ""
		if c.model == "B2" {
			colour = colours[i%len(colours)]
		}
		line := fmt.Sprintf("%s[%6.3f] %s\r\n", colour, (time.Duration(i) * step).Seconds(), text)
		last := i == len(bootLines)-1
		c.bench.Later(c.Unit, at.Add(time.Duration(i+1)*step), func(at time.Time) {
			c.Say(at, line)
			if last {
				c.up, c.now = true, c.next
				if c.model == "B1" {
					c.serve()
				}
			}
		})
	}
}

func (c *bittern) Heard(at time.Time, b []byte) {
	if !c.up {
		return
	}
	for _, ch := range b {
		if c.model == "B1" || c.state != askCode { // a code is not echoed
			if ch >= ' ' {
				c.Say(at, string(ch))
			}
		}
		if ch == '\n' {
			continue
		}
		line, over := c.typed.take(ch)
		if !over {
			continue
		}
		c.Say(at, "\r\n")
		if c.model == "B1" {
			c.obey(at, strings.Fields(line))
			if c.up {
				c.Say(at, bitternPrompt)
			}
		} else {
			c.converse(at, line)
		}
	}
}

func (c *bittern) print(at time.Time, lines ...string) {
	c.Say(at, strings.Join(lines, "\r\n")+"\r\n")
}

func (c *bittern) obey(at time.Time, words []string) {
	line := strings.Join(words, " ")
	switch {
	case line == "":
	case line == "help":
		c.print(at, "net                 address, mask and gateway", "net address A       set the address", "net mask BITS       set the mask, 8 to 30",
			"net gateway A       set the gateway", "status              what the cabinet does", "restart             start again")
	case line == "net":
		c.print(at, "address "+c.now.address, fmt.Sprintf("mask %d", c.now.mask), "gateway "+c.now.gateway)
		if c.next != c.now {
			c.print(at, "after restart: "+fmt.Sprintf("%s/%d via %s", c.next.address, c.next.mask, c.next.gateway))
		}
	case line == "status":
		c.print(at, "Bittern B1, release 4.12", fmt.Sprintf("cabinet %d degrees", 17+c.bench.Noise.IntN(4)), "door closed", "supply 24.1 V")
	case line == "restart":
		if !c.next.whole() {
			c.print(at, "refused: the gateway is outside the net")
			return
		}
		c.print(at, "restarting")
		c.boot(at)
	case len(words) == 3 && words[0] == "net":
		c.set(at, words[1], words[2])
	default:
		c.print(at, "no such word: "+words[0])
	}
}

// whole reports whether the gateway is in the net.
func (n bitternNet) whole() bool {
	a, err1 := netip.ParseAddr(n.address)
	g, err2 := netip.ParseAddr(n.gateway)
	if err1 != nil || err2 != nil {
		return false
	}
	return netip.PrefixFrom(a, n.mask).Masked().Contains(g)
}

func (c *bittern) set(at time.Time, what, value string) {
	switch what {
	case "address", "gateway":
		if a, err := netip.ParseAddr(value); err != nil || !a.Is4() {
			c.print(at, "refused: no address: "+value)
			return
		}
		if what == "address" {
			c.next.address = value
		} else {
			c.next.gateway = value
		}
	case "mask":
		n := 0
		if _, err := fmt.Sscanf(value, "%d", &n); err != nil || n < 8 || n > 30 {
			c.print(at, "refused: mask is 8 to 30")
			return
		}
		c.next.mask = n
	default:
		c.print(at, "no such word: net "+what)
		return
	}
	c.print(at, "kept for the next start")
}

// bitternLogs are the files of a B2.
var bitternLogs = map[string][]string{
	"rope.log": {"06:02 rope tension 41.8 kN", "06:17 rope tension 42.0 kN", "06:31 rope tension 41.9 kN", "06:44 tower 3: sheave 2 warm", "06:58 rope tension 42.1 kN"},
	"door.log": {"05:55 cabinet opened", "05:58 cabinet closed"},
}

const towerPrompt = "\x1b[1mtower\x1b[0m:\x1b[34mB2\x1b[0m> "

// converse is what a B2 does with a line.
func (c *bittern) converse(at time.Time, line string) {
	switch c.state {
	case askName:
		if line == "" {
			c.Say(at, "name: ")
			return
		}
		c.who, c.state = line, askCode
		c.Say(at, "code: ")
		return
	case askCode:
		c.state = askName
		if c.who != bitternUser || line != c.code {
			c.print(at, "not known here")
			c.Say(at, "name: ")
			return
		}
		c.state = atWork
		c.print(at, "\x1b[32mwelcome\x1b[0m "+c.who)
		c.Say(at, towerPrompt)
		return
	}
	words := append(strings.Fields(line), "", "")
	switch words[0] {
	case "":
	case "help":
		c.print(at, "status  logs  show FILE  leave")
	case "status":
		c.print(at, "Bittern B2, release 4.12", "\x1b[32mrope\x1b[0m 42.0 kN", "\x1b[33msheave 3.2\x1b[0m warm")
	case "logs":
		c.print(at, "door.log  2 lines", "rope.log  5 lines")
	case "show":
		lines, ok := bitternLogs[words[1]]
		if !ok {
			c.print(at, "no such file: "+words[1])
			break
		}
		c.print(at, lines...)
	case "leave":
		c.state = askName
		c.print(at, "bye")
		c.Say(at, "name: ")
		return
	default:
		c.print(at, "no such word: "+words[0])
	}
	c.Say(at, towerPrompt)
}
