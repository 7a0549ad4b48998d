package families

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uparrot/core/sim"
)

// curlew is a cellular modem that speaks what ITU-T V.250 and 3GPP TS 27.007 and
// 27.005 define, and little else. Its maker, its notices at start and its times
// are made up.
//
// After power-up it sends noise and a banner, opens its SIM and looks for a
// network, each with a notice some time later. A text message goes in two parts:
// the command, a prompt without a line end, then the text and Ctrl-Z.
type curlew struct {
	*sim.Unit
	bench *sim.Bench

	up         bool // the firmware runs
	sim        bool // the SIM can be used
	registered bool
	echo       bool
	errors     int  // AT+CMEE
	creg       int  // AT+CREG
	textMode   bool // AT+CMGF=1
	command    []byte
	message    bool // the text of a message is coming
	text       []byte
	messages   int // sent so far
}

// How long after power-up each thing is ready, and how long a message takes.
const (
	curlewBoot    = 900 * time.Millisecond
	curlewSIM     = 2 * time.Second
	curlewNetwork = 5 * time.Second
	curlewSending = 700 * time.Millisecond
)

// Error numbers of 3GPP TS 27.007, 9.2, and TS 27.005, 3.2.5.
const (
	cmeNotAllowed    = 3
	cmeNotSupported  = 4
	cmeSIMBusy       = 14
	cmeBadIndex      = 21
	cmeBadParameters = 50
	cmsNotAllowed    = 302
	cmsNoNetwork     = 331
)

var errorWords = map[int]string{
	cmeNotAllowed: "operation not allowed", cmeNotSupported: "operation not supported", cmeSIMBusy: "SIM busy",
	cmeBadIndex: "invalid index", cmeBadParameters: "incorrect parameters", cmsNotAllowed: "operation not allowed", cmsNoNetwork: "no network service",
}

func newCurlew(b *sim.Bench, u *sim.Unit) (sim.Behaviour, error) {
	for key := range u.Settings {
		return nil, fmt.Errorf("a Curlew has no setting %q: it is set by its commands", key)
	}
	c := &curlew{Unit: u, bench: b, up: true, sim: true, registered: true, echo: true}
	c.arriveLater(time.Now())
	return c, nil
}

func (c *curlew) Power(at time.Time, on bool) {
	*c = curlew{Unit: c.Unit, bench: c.bench, echo: true}
	if !on {
		return
	}
	after := func(d time.Duration, do func(at time.Time)) { c.bench.Later(c.Unit, at.Add(d), do) }
	c.Say(at, c.bench.BootNoise(40))
	after(curlewBoot, func(at time.Time) { c.up = true; c.Answer(at, "CURLEW 3.1") })
	after(curlewSIM, func(at time.Time) { c.sim = true; c.Answer(at, "CURLEW: SIM OPEN") })
	after(curlewNetwork, func(at time.Time) {
		c.registered = true
		if c.creg > 0 {
			c.Answer(at, "+CREG: 1")
		}
		c.Answer(at, "CURLEW: IN SERVICE")
		c.arriveLater(at)
	})
}

// arriveLater has a text message arrive at some random moment, again and again.
func (c *curlew) arriveLater(at time.Time) {
	wait := 20*time.Second + time.Duration(c.bench.Noise.Int64N(int64(40*time.Second)))
	c.bench.Later(c.Unit, at.Add(wait), func(at time.Time) {
		c.Answer(at, fmt.Sprintf(`+CMTI: "SM",%d`, 1+c.bench.Noise.IntN(9)))
		c.arriveLater(at)
	})
}

func (c *curlew) Heard(at time.Time, b []byte) {
	if !c.up {
		return
	}
	for _, ch := range b {
		if c.message {
			c.messageByte(at, ch)
			continue
		}
		if c.echo {
			c.Say(at, string(ch))
		}
		switch ch {
		case '\n':
		case '\r':
			line := string(c.command)
			c.command = c.command[:0]
			if len(line) >= 2 && strings.EqualFold(line[:2], "AT") {
				c.obey(at, line[2:])
			}
		case '\b':
			c.command = c.command[:max(0, len(c.command)-1)]
		default:
			if len(c.command) < 200 {
				c.command = append(c.command, ch)
			}
		}
	}
}

// messageByte takes in the text of a message (TS 27.005, 3.5.1): Ctrl-Z sends
// it, ESC gives it up.
func (c *curlew) messageByte(at time.Time, ch byte) {
	switch ch {
	case 0x1a:
		c.message = false
		c.bench.Later(c.Unit, at.Add(curlewSending), func(at time.Time) {
			if !c.registered {
				c.refuse(at, "CMS", cmsNoNetwork)
				return
			}
			c.messages++
			c.Answer(at, fmt.Sprintf("+CMGS: %d", c.messages), "OK")
		})
	case 0x1b:
		c.message = false
		c.Answer(at, "OK")
	default:
		if c.echo {
			c.Say(at, string(ch))
		}
		if len(c.text) < 160 {
			c.text = append(c.text, ch)
		}
		if ch == '\r' { // each line of it is asked for (TS 27.005, 3.5.1)
			c.Say(at, "\r\n> ")
		}
	}
}

// refuse says no as AT+CMEE asks for: a bare ERROR, a number, or words.
func (c *curlew) refuse(at time.Time, kind string, number int) {
	switch c.errors {
	case 0:
		c.Answer(at, "ERROR")
	case 1:
		c.Answer(at, fmt.Sprintf("+%s ERROR: %d", kind, number))
	default:
		c.Answer(at, fmt.Sprintf("+%s ERROR: %s", kind, errorWords[number]))
	}
}

func (c *curlew) obey(at time.Time, body string) {
	upper := strings.ToUpper(body)
	name, op := upper, ""
	if i := strings.IndexAny(upper, "?="); i >= 0 {
		name, op = upper[:i], body[i:]
	}
	plain := map[string][]string{
		"":      {},
		"I":     {"Larkfell Works", "Curlew", "3.1"},
		"+CGMI": {"Larkfell Works"},
		"+CGMM": {"Curlew"},
		"+CGMR": {"3.1"},
		"+CGSN": {fmt.Sprintf("99000%010d", serialNumber(c.Which()))},
	}
	if lines, ok := plain[name]; ok && op == "" {
		c.Answer(at, append(lines, "OK")...)
		return
	}
	switch {
	case name == "E0", name == "E1":
		c.echo = name == "E1"
	case name == "Z", name == "&F":
		c.echo, c.errors, c.creg, c.textMode = true, 0, 0, false
	case name == "+CLAC" && op == "": // 3GPP TS 27.007, 8.37
		c.Answer(at, "AT+CGMI", "AT+CGMM", "AT+CGMR", "AT+CGSN", "AT+CLAC", "AT+CMEE", "AT+CREG", "AT+CPIN", "AT+CSQ", "AT+COPS", "AT+CMGF", "AT+CMGS", "AT+IPR", "OK")
		return
	case name == "+COPS" && op == "?":
		c.Answer(at, "+COPS: 0", "OK")
		return
	case name == "+COPS" && op == "=?": // it searches
		c.bench.Later(c.Unit, at.Add(curlewSearch), func(at time.Time) {
			c.Answer(at, `+COPS: (2,"Larkfell","LARK","00101")`, "OK")
		})
		return
	case name == "+CMEE":
		c.number(at, "+CMEE", op, 2, &c.errors)
		return
	case name == "+CREG" && op == "?":
		state := 2 // searching
		if c.registered {
			state = 1
		}
		c.Answer(at, fmt.Sprintf("+CREG: %d,%d", c.creg, state), "OK")
		return
	case name == "+CREG":
		c.number(at, "+CREG", op, 1, &c.creg)
		return
	case name == "+CPIN" && op == "?":
		if !c.sim {
			c.refuse(at, "CME", cmeSIMBusy)
			return
		}
		c.Answer(at, "+CPIN: READY", "OK")
		return
	case name == "+CSQ" && op == "":
		strength := 99 // not known
		if c.registered {
			strength = 14 + c.bench.Noise.IntN(5)
		}
		c.Answer(at, fmt.Sprintf("+CSQ: %d,99", strength), "OK")
		return
	case name == "+CMGF":
		mode := 0
		if c.textMode {
			mode = 1
		}
		c.number(at, "+CMGF", op, 1, &mode)
		c.textMode = mode == 1
		return
	case name == "+CMGS" && strings.HasPrefix(op, "="):
		c.send(at, op[1:])
		return
	case name == "+IPR":
		c.speed(at, op)
		return
	default:
		c.refuse(at, "CME", cmeNotSupported)
		return
	}
	c.Answer(at, "OK")
}

// number reads or sets a setting from 0 to most.
func (c *curlew) number(at time.Time, name, op string, most int, v *int) {
	n, err := strconv.Atoi(strings.TrimPrefix(op, "="))
	switch {
	case op == "?":
		c.Answer(at, fmt.Sprintf("%s: %d", name, *v), "OK")
	case op == "=?":
		c.Answer(at, fmt.Sprintf("%s: (0-%d)", name, most), "OK")
	case err != nil || n < 0 || n > most:
		c.refuse(at, "CME", cmeBadParameters)
	default:
		*v = n
		c.Answer(at, "OK")
	}
}

// send begins a text message.
func (c *curlew) send(at time.Time, to string) {
	switch {
	case !c.textMode:
		c.refuse(at, "CMS", cmsNotAllowed)
	case len(to) < 3 || to[0] != '"' || to[len(to)-1] != '"' || strings.Trim(to[1:len(to)-1], "+0123456789") != "":
		c.refuse(at, "CME", cmeBadParameters)
	default:
		c.message, c.text = true, nil
		c.Say(at, "\r\n> ")
	}
}

// curlewSearch is how long the modem searches for networks.
const curlewSearch = 4 * time.Second

// curlewSpeeds are those that AT+IPR takes (V.250, 6.2.10).
var curlewSpeeds = []int{1200, 9600, 19200, 38400, 57600, 115200, 460800}

// speed reads or sets the modem's own speed, which changes after the answer.
func (c *curlew) speed(at time.Time, op string) {
	line := c.CurrentLine()
	switch op {
	case "?":
		c.Answer(at, fmt.Sprintf("+IPR: %d", line.Speed), "OK")
		return
	case "=?":
		c.Answer(at, "+IPR: (),("+strings.Trim(strings.ReplaceAll(fmt.Sprint(curlewSpeeds), " ", ","), "[]")+")", "OK")
		return
	}
	n, err := strconv.Atoi(strings.TrimPrefix(op, "="))
	for _, s := range curlewSpeeds {
		if err == nil && s == n {
			c.Answer(at, "OK")
			line.Speed = n
			c.SetLine(line) // what is on its way keeps the old speed
			return
		}
	}
	c.refuse(at, "CME", cmeBadParameters)
}
