package tests

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// freePort is a port number of this machine that nobody uses at the moment.
func freePort(t *testing.T, network string) string {
	t.Helper()
	var address string
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		address = c.LocalAddr().String()
	} else {
		c, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		address = c.Addr().String()
	}
	_, number, err := net.SplitHostPort(address)
	if err != nil {
		t.Fatal(err)
	}
	return number
}

// runWith is run with more in the environment and something on standard input.
func (b *bench) runWith(env []string, in string, args ...string) call {
	b.t.Helper()
	cmd, out, err := b.command(args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdin = strings.NewReader(in)
	return call{b.status(cmd.Run()), out.String(), err.String()}
}

// Every module of the workshop is put into service by its procedure, over real
// pseudo-terminals and sockets, and what its procedure keeps is there.
func TestWorkshop(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	service := freePort(t, "tcp")
	b.write("workshop.toml", strings.Replace(b.read("workshop.toml"), "47021", service, 1))
	b.start("for other commands", "standin", "workshop.toml")
	secrets := []string{"UPARROT_NETWORK_KEY=frost-and-rime", "UPARROT_CODE=snowline"}
	order := func(words string) { b.run("standin", "workshop.toml", "--tell", words).wants(t, 0) }
	run := func(in, name string, more ...string) call {
		return b.runWith(secrets, in, append([]string{"run", name + ".parrot", "--bench", "workshop.toml", "--record", name + ".record", "--keep-both"}, more...)...)
	}
	run("", "siskin").wants(t, 0, "all 7 steps", "strength of the badge")
	run("", "siskin", "--quiet").wants(t, 0) // and once more: it left all as it was
	run("", "twite", "--set", "server_port="+freePort(t, "tcp"), "--set", "listener_port="+freePort(t, "udp")).wants(t, 0, "all 8 steps")
	run("", "bittern", "--set", "service="+service).wants(t, 0, "all 6 steps", "controller-boot.log")
	run("", "tower").wants(t, 0, "all 4 steps")
	if log := b.read("rope.log"); !strings.HasPrefix(log, "06:02 rope tension") || strings.Count(log, "\n") != 5 {
		t.Errorf("kept %q", log)
	}
	if boot := b.read("controller-boot.log"); !strings.Contains(boot, "store clean") {
		t.Errorf("kept %q", boot)
	}
	for _, f := range []string{"twite.record", "tower.record"} {
		for _, s := range []string{"frost-and-rime", "snowline"} {
			if strings.Contains(b.read(f), s) {
				t.Errorf("%s is in %s", s, f)
			}
		}
	}

	// Hands: a jumper and a power switch, then a lever, while the procedure waits.
	whenAsked := func(name, words string, do func(), more ...string) call {
		cmd := exec.Command(uparrot, append([]string{"run", name + ".parrot", "--bench", "workshop.toml", "--record", name + ".record", "--keep-both"}, more...)...)
		cmd.Dir = b.dir
		var out strings.Builder
		cmd.Stdout = &out
		cmd.Stdin = strings.NewReader("yes\n")
		told, err := cmd.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		done, buf, seen := false, make([]byte, 4096), ""
		for {
			n, err := told.Read(buf)
			seen += string(buf[:n])
			if !done && strings.Contains(seen, words) {
				done = true
				do()
			}
			if err != nil {
				break
			}
		}
		return call{b.status(cmd.Wait()), out.String(), seen}
	}
	b.runWith(nil, "{hex 49}\nX\n", "talk", "gauge", "--bench", "workshop.toml").wants(t, 0, "< A8 02 01 04 ", "< EE 58 ", " .X")
	// A prompt has no line end; one that is only the beginning of a line is not what is waited for.
	b.runWith(nil, "\n", "talk", "controller", "--bench", "workshop.toml", "--for", "20s", "--until-heard", "bittern>").wants(t, 0, "< bittern>")
	b.runWith(nil, "\n", "talk", "controller", "--bench", "workshop.toml", "--for", "600ms", "--until-heard", "bittern").wants(t, 1, "no line like bittern came")
	b.runWith(nil, "lamp\n", "talk", "controller", "--bench", "workshop.toml", "--refusal", "{").wants(t, 2, "--refusal")
	b.runWith(nil, "X\n", "talk", "gauge", "--bench", "workshop.toml", "--for", "20s", "--until-heard", "{hex EE}X").wants(t, 0, "< EE 58 ")
	whenAsked("plover", "Set the jumper", func() { order("hand gauge jumper on"); order("power gauge cycle") }).wants(t, 0, "all 4 steps", "wind in the stream", "heard  A8 02 01 04  ....", "heard  EE 58  .X", " (0x")
	whenAsked("brambling", "Pull the brake lever", func() { order("hand brakes lever") }).
		wants(t, 1, "5 of 6 steps passed", "release time is 9", "wanted 100..800 ms", "5.2 bar, wanted 4.5..6.5 bar", "lever travel")
	b.run("standin", "workshop.toml", "--tell", "hand tower push").wants(t, 2, "nothing on tower")

	// Without a person those steps are untested; later only they are done.
	run("", "brambling", "--operator", "none").wants(t, 1, "it needs a person: Pull the brake lever", "3 of 6 steps passed")
	b.write("answers.toml", "\"Is the warning lamp of the brake lit?\" = true\n")
	again := run("", "brambling", "--repeat-failed", "brambling.record", "--answers", "answers.toml", "--only", "1")
	again.wants(t, 2, "exclude each other")
	if err := os.Rename(filepath.Join(b.dir, "brambling-2.record"), filepath.Join(b.dir, "first.record")); err != nil {
		t.Fatal(err)
	}
	go func() {
		time.Sleep(2 * time.Second)
		order("hand brakes lever")
	}()
	again = run("", "brambling", "--repeat-failed", "first.record", "--answers", "answers.toml")
	again.wants(t, 1, "3 of 4 steps passed, 2 left out", "warning lamp")
	if strings.Contains(again.err, "said   test 1") {
		t.Error("a step that had passed was performed again")
	}
	run("", "brambling", "--only", "supply").wants(t, 0, "2 of 2 steps passed, 4 left out")
	run("", "brambling", "--from", "5", "--operator", "none").wants(t, 1, "3  lever travel   skipped")
	run("", "brambling", "--only", "suply").wants(t, 2, `no step "suply"`, `Did you mean "supply"?`)
}

// A procedure can be tried against the phrasebook alone, planned without a port,
// and fed from files.
func TestBeforeTheModuleHasCome(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.start("for other commands", "standin", "dunlin.toml")
	b.write("unit.toml", "address = 12\nchannel = 40\n")
	b.run("run", "commission.parrot", "--port", "dunlin.ports/dunlin", "--set-file", "unit.toml").wants(t, 0, "said   AT~NODE=12", "said   AT~CHANNEL=40", "all 7 steps")
	b.run("run", "commission.parrot", "--set-file", "unit.toml", "--set", "address=13", "--plan").wants(t, 0, "say radio: AT~NODE=13", "hear radio within 5s took boot: DUNLIN UP ...", `say radio: AT~NAME="tower 13"`)
	b.write("unit.toml", "adress = 12\n")
	b.run("run", "commission.parrot", "--set-file", "unit.toml", "--plan").wants(t, 2, `no input "adress"`, `Did you mean "address"?`)
	b.run("standin", "plover.toml").wants(t, 2, "dialect bytes makes no stand-in")
}

func TestTidyCommand(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.run("tidy", "--diff", "commission.parrot", "siskin.parrot").wants(t, 0)
	tidy := b.read("commission.parrot")
	b.write("x.parrot", strings.ReplaceAll(strings.ReplaceAll(tidy, "    ", "\t  "), "\n\n", "\n"))
	b.run("tidy", "--diff", "x.parrot").wants(t, 1, "-\t  say radio: AT", "+    say radio: AT")
	if b.runWith(nil, b.read("x.parrot"), "tidy", "-").wants(t, 0).out != b.run("tidy", "x.parrot").out {
		t.Error("standard input is tidied otherwise")
	}
	b.run("tidy", "--write", "x.parrot").wants(t, 0, "x.parrot is rewritten")
	b.run("tidy", "--diff", "x.parrot").wants(t, 0)
	b.write("x.parrot", "procedure \"X\"\nsay: x\n")
	b.run("tidy", "--write", "x.parrot").wants(t, 2, "x.parrot:2:1", "1 mistake")
	if b.read("x.parrot") != "procedure \"X\"\nsay: x\n" {
		t.Error("a procedure with mistakes was touched")
	}
}

// Mistakes stand at their place in an included file too.
func TestInclude(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write("parts.parrot", "# Parts for others.\nport radio: dialect at, ending cr\n\nroutine greet(word)\n    say radio: {word}\nend\n")
	b.write("whole.parrot", "procedure \"Whole\"\ninclude \"parts.parrot\"\n\nstep \"greet\"\n    do greet(\"AT\")\nend\n")
	b.run("check", "parts.parrot", "whole.parrot").wants(t, 0, "parts.parrot: parts to include, 1 routine", "whole.parrot: procedure \"Whole\", 1 step")
	b.run("run", "parts.parrot", "--port", "x").wants(t, 2, "it is there to be included")
	b.write("parts.parrot", "include \"whole.parrot\"\nroutine greet(word)\n    sya radio: {word}\nend\n")
	b.run("check", "whole.parrot").wants(t, 2, "parts.parrot:1:9: whole.parrot includes itself", `parts.parrot:3:5: unknown word "sya"`)
}
