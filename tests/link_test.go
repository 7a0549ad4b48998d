package tests

import (
	"encoding/json"
	"io"
	"net"
	"os"
	"strings"
	"syscall"
	"testing"
)

// Three transparent radios, served over RFC 2217 so that their mode lines can be
// set: put into service, tested in binary, mapped.
func TestTransparentRadios(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	text := b.read("ropeway.toml")
	for _, number := range []string{"4301", "4302", "4303"} {
		text = strings.Replace(text, number, freePort(t, "tcp"), 1)
	}
	b.write("ropeway.toml", text)
	b.start("for other commands", "standin", "ropeway.toml")
	for _, name := range []string{"valley", "tower", "summit"} {
		b.run("run", "fieldfare.parrot", "--bench", "ropeway.toml", "--port", name, "--set", "channel=12").wants(t, 0, "all 5 steps", "DTR off")
	}
	b.run("link", "map", "--bench", "ropeway.toml", "--count", "5", "--every", "150ms", "--plot", "map.svg").wants(t, 0, "passed", "speaks \\ listens")
	if picture := b.read("map.svg"); !strings.Contains(picture, "listener") {
		t.Error("the map is not drawn")
	}
	c := b.run("link", "test", "valley", "summit", "--bench", "ropeway.toml", "--count", "40", "--load", "40%", "--plot", "l.png", "--json", "--quiet")
	c.wants(t, 0)
	var s summary
	if err := json.Unmarshal([]byte(c.out), &s); err != nil || s.Directions[0].Sent != 40 || s.Directions[0].Received < 20 || s.Directions[0].Foreign > s.Directions[0].Lost { // what is left of a frame that a stalled machine has sent in two is none
		t.Errorf("%v, %+v", err, s)
	}
	b.run("link", "test", "valley", "summit", "--bench", "ropeway.toml", "--bits", "prbs15", "--for", "3s").wants(t, 0, "sent as prbs15", "ITU-T G.821")
	b.run("link", "test", "valley", "summit", "--bench", "ropeway.toml", "--bits", "prbs7").wants(t, 2, `Did you mean "prbs9"?`)
	b.run("link", "test", "valley", "summit", "--bench", "ropeway.toml", "--bits", "prbs9", "--count", "5").wants(t, 2, "--count is about frames")
	for _, f := range []string{"l-time.png", "l-distribution.png"} {
		if _, err := os.Stat(b.dir + "/" + f); err != nil {
			t.Error(err)
		}
	}
}

// Ports in the network have no serial line: no share of the latency is theirs.
func TestLinkOverTCP(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	one, other := freePort(t, "tcp"), freePort(t, "tcp")
	near, far := net.JoinHostPort("127.0.0.1", one), net.JoinHostPort("127.0.0.1", other)
	var conns [2]chan net.Conn
	for i, at := range []string{near, far} {
		ln, err := net.Listen("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { ln.Close() })
		conns[i] = make(chan net.Conn, 1)
		go func() {
			if c, err := ln.Accept(); err == nil {
				conns[i] <- c
			}
		}()
	}
	go func() { // a server that joins the two
		a, z := <-conns[0], <-conns[1]
		go io.Copy(a, z)
		io.Copy(z, a)
	}()
	b.run("link", "test", "tcp://"+near, "tcp://"+far, "--load", "50%", "--count", "5").wants(t, 2, "has no line whose load could be chosen")
	b.run("link", "test", "tcp://"+near, "tcp://"+far, "--count", "20", "--every", "10ms", "--max-loss", "50%").wants(t, 0, "20 received", "these ports have no serial line to count")
}

// A round trip through the carrier with a far end of its own, and runs compared.
func TestRoundTripAndCompare(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.standins()
	at := []string{"--bench", "larkfell.toml"}
	far := b.start("answering at", append([]string{"link", "answer", "summit"}, at...)...)
	c := b.run(append([]string{"link", "test", "valley", "--to", "2", "--size", "40", "--count", "80", "--window", "3", "--json", "--quiet"}, at...)...)
	c.wants(t, 0)
	var s summary
	if err := json.Unmarshal([]byte(c.out), &s); err != nil || s.Directions[0].Received < 50 || s.Directions[0].LatencyMS.Median < 75 || s.Directions[0].To != "the far end and back" {
		t.Errorf("%v, %+v", err, s)
	}
	b.write("there.json", c.out)
	b.run(append([]string{"link", "test", "valley"}, at...)...).wants(t, 2, "say which is the far end's")
	b.run(append([]string{"link", "test", "valley", "--to", "2", "--size", "24"}, at...)...).wants(t, 2, "the least is 32", "how long the far end took")
	if err := far.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	far.Wait()
	c = b.run(append([]string{"link", "test", "valley", "summit", "--count", "80", "--every", "40ms", "--record", "one.record", "--quiet"}, at...)...).wants(t, 0, "bursts", "variation")
	b.run("link", "compare", "there.json", "one.record", "--plot", "both.svg").wants(t, 0, "there.json is slower", "permutation of blocks, p 0.0")
	b.run("link", "compare", "there.json", "there.json").wants(t, 0, "loss: no difference shown", "latency: no difference shown", "frames in each run would show")
	b.run("link", "compare", "there.json", "larkfell.toml").wants(t, 2, "neither the summary of a link test nor a record")
	b.run(append([]string{"link", "test", "valley", "summit", "--until-sure", "--max-loss", "30%", "--every", "25ms", "--quiet"}, at...)...).wants(t, 0, "decided after", "this holds if stretches of loss come at least every")
	// An undecided test names the call that decides it, which does.
	few := append([]string{"link", "test", "valley", "summit", "--max-loss", "50%", "--count", "3", "--every", "25ms", "--quiet"}, at...)
	b.run(few...).wants(t, 4, "to decide it: uparrot link test valley summit", "--count", "--max-loss 50% ")
	_, again, _ := strings.Cut(b.run(append(few, "--checkpoint", "way.json")...).wants(t, 4).err, "to decide it: uparrot ")
	b.run(strings.Fields(again)...).wants(t, 0, "keeps the limit of 50", "decided after")
	b.run(append([]string{"link", "test", "valley", "summit", "--bits", "prbs9"}, at...)...).wants(t, 3, "does not take all values of a byte")
	b.run(append([]string{"link", "test", "valley", "summit", "--size", "24..72/24", "--count", "30", "--every", "40ms", "--quiet"}, at...)...).wants(t, 0, "24 bytes", "48 bytes", "72 bytes", "10 sent")
	b.run(append([]string{"link", "test", "valley", "summit", "--size", "24,x"}, at...)...).wants(t, 2, "wanted a number of bytes, a list such as 24,48,96")
	b.run(append([]string{"link", "test", "valley", "summit", "--size", "8,24"}, at...)...).wants(t, 2, "8 bytes is too short")
	walk := b.runWith(nil, "", append([]string{"link", "test", "valley", "summit", "--walk", "--max-time", "2s", "--every", "40ms", "--min-strength", "-125"}, at...)...)
	walk.wants(t, 0, "stretch", "start", "keeps the least of -125 dBm", "margin")
	b.run(append([]string{"link", "test", "valley", "summit", "--until-sure"}, at...)...).wants(t, 2, "no limit to be sure of")
	b.run("link", "budget", "--phrasebook", "dunlin.toml", "--speed", "9600", "--air-rate", "5000", "--preamble", "30ms", "--every", "50ms").
		wants(t, 0, "39.583 ms", "68.400 ms", "set by the air", "An interval of 50ms cannot be kept")
}
