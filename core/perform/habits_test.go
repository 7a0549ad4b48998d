package perform

import "time"

const (
	console = "dialect console, prompt \"tower#\", ending cr"
	at      = "dialect at, ending cr"
	lines   = "dialect lines, ending cr"
	guarded = console + ", login \"tower login:\", password \"Password:\", denied \"Login incorrect\""

	prompt = "\r\ntower# "
	ok     = "\r\nOK\r\n"
	no     = "\r\nERROR\r\n"
)

// refusing is a phrasebook with a refusal.
func refusing(text string) string { return "[refusal]\nheard = [\"" + text + "\"]\n" }

// boot is a console behind a login.
var boot = says{"up": "\r\ntower login: ", "": "\r\ntower login: ", "ops": "{line}\r\nPassword: ", "frost": "\r\nwelcome ops" + prompt, "go": "{line}\r\ngone" + prompt}

// with is a module that says some things otherwise.
func (s says) with(other says) says {
	all := says{}
	for _, list := range []says{s, other} {
		for k, v := range list {
			all[k] = v
		}
	}
	return all
}

const ms100 = 100 * time.Millisecond

// habits are what devices do, by what they try.
var habits = []struct {
	title string
	rows  []habit
}{
	{"Busy modules", []habit{
		{"answers late: that does not end the next command", console, "",
			says{"sleep 7; show": "{line}{7s}\r\nvalue 1" + prompt, "": "{line}\r\nvalue 3" + prompt},
			[]string{"say dev: sleep 7; show / hear dev: value 1", "say dev: set 2", "say dev: set 3 / hear dev: value 3"},
			[]string{"failed", `failed still busy with "sleep 7; show"`, "passed"}, "sleep 7; show|set 3", 7 * time.Second},
		{"is busy when what must always be done is due: that waits for it", console, "",
			says{"sleep 3": "{3s}{line}" + prompt, "": "{line}\r\nvalue 2" + prompt},
			[]string{"say dev: sleep 3 / hear dev within 500ms: value 1", "always: say dev: set 2 / hear dev: value 2"},
			[]string{"failed", "passed"}, "sleep 3|set 2", 3 * time.Second},
		{"refuses late: that is not the refusal of the next line", at, "", says{"AT+LATE": "{3s}" + no, "": ok},
			[]string{"say dev: AT+LATE", "say dev: AT"}, []string{"failed", "passed"}, "AT+LATE|AT", 3 * time.Second},
		{"hears nothing for a while: a step with tries says it again", at, "", says{"AT": "||" + "||" + ok},
			[]string{"tries 3 every 500ms: say dev: AT"}, []string{"passed"}, "AT|AT|AT", 6 * time.Second},
		{"owes an answer: another line is not said to it", at, "", says{"AT": ok},
			[]string{"say dev: AT+LOST", "say dev: AT"}, []string{"failed", `failed still busy with "AT+LOST"`}, "AT+LOST", 4 * time.Second},
		{"answers bytes that end a line: they wait for their own answer", console, "",
			says{"long": "{1s}{line}\r\nlong result" + prompt, "": "{line}\r\nshort result" + prompt},
			[]string{"say dev: short", "say bytes dev: long{cr} / collect x from dev until prompt / check x contains \"long result\"", "say bytes dev: long{cr}"},
			[]string{"passed", "passed", "passed"}, "short|long|long", 2100 * time.Millisecond},
		{"is busy: bytes that end a line are not said to it either", console, "", says{"sleep 5": "{5s}" + prompt, "": prompt},
			[]string{"say dev: sleep 5 / hear dev within 500ms: value 1", "say bytes dev: set 2{cr}"},
			[]string{"failed", `failed still busy with "sleep 5"`}, "sleep 5", 4500 * time.Millisecond},
		{"is interrupted by bytes: the next line waits for its prompt", console, "",
			says{"sleep 60": "{line}", "bytes \x03": "^C{500ms}" + prompt, "": "{line}\r\nvalue 2" + prompt},
			[]string{"say dev: sleep 60", "say bytes dev: {hex 03} / say dev: set 2 / hear dev: value 2"},
			[]string{"failed", "passed"}, "sleep 60|\x03|set 2", 2500 * time.Millisecond},
		{"gets a line that truly has no answer", at, "", says{"AT": ok},
			[]string{"say dev without answer: AT+SLEEP", "say dev: AT"}, []string{"passed", "passed"}, "AT+SLEEP|AT", 0},
		{"refuses a line said without answer", at, "", says{"": no},
			[]string{"say dev without answer: AT+SLEEP / pause 100ms"}, []string{"failed said AT+SLEEP, was refused with ERROR"}, "AT+SLEEP", ms100},
		{"dials over a step's end", at, "", says{"ATD5": "{line}{20s}\r\nCONNECT 9600\r\n", "far ATA": "{1s}\r\nCONNECT 9600\r\n", "far up": "{18s}\r\nRING\r\n"},
			[]string{"say dev answer later: ATD5", "hear far within 30s: RING / say far: ATA", "hear dev within 30s: CONNECT {speed:int}"},
			[]string{"passed", "passed", "passed"}, "ATD5", 20 * time.Second},
		{"dials still: the next line is not typed into the call", at, "", says{"ATD5": "{3s}\r\nCONNECT\r\n", "": ok},
			[]string{"say dev answer later: ATD5", "say dev: ATH", "say dev: ATH"},
			[]string{"passed", "failed", "passed"}, "ATD5|ATH", 3 * time.Second},
		{"never answers what may end later: the last step tells it", at, "", says{"ATD5": ""},
			[]string{"say dev answer later: ATD5", "check 1 == 1"}, []string{"passed", "failed nothing came within 2s"}, "ATD5", 2 * time.Second},
		{"never answers what may end later, and the last step is left", at, "", says{"ATD5": ""},
			[]string{"say dev answer later: ATD5", "skip \"no time\""}, []string{"passed", "failed nothing came within 2s"}, "ATD5", 2 * time.Second},
		{"refuses what may end later, in a step that is left", at, "", says{"ATD5": "{1s}\r\nNO CARRIER\r\n"},
			[]string{"say dev answer later: ATD5", "pause 2s / skip \"no time\"", "check 1 == 1"}, []string{"passed", "failed was refused with NO CARRIER", "passed"}, "ATD5", 2 * time.Second},
		{"refuses what may end later, while another port is waited at", at, "", says{"ATD5": "{3s}\r\nNO CARRIER\r\n"},
			[]string{"say dev answer later: ATD5", "hear far within 30s: RING"}, []string{"passed", "failed dev: said ATD5, was refused with NO CARRIER"}, "ATD5", 3 * time.Second},
	}},
	{"How answers end", []habit{
		{"has final results of its own, in dialect lines", lines, "[final]\nheard = [\"DONE\"]\n[refusal]\nheard = [\"NAY {n:int}\"]\n",
			says{"relay": "{1s}relay is on\r\nDONE\r\n", "lift": "NAY 4\r\n"},
			[]string{"say dev: relay / hear dev: relay is on / say dev: relay", "say dev: lift"},
			[]string{"passed", "failed said lift, was refused with NAY 4"}, "relay|relay|lift", 2 * time.Second},
		{"has final results that the port names", lines + ", final \"DONE\", final \"SENT {n:int}\", refusal \"NAY {n}\"", "",
			says{"send": "{1s}SENT 4\r\n", "lift": "NAY now\r\n", "relay": "{1s}DONE\r\n"},
			[]string{"say dev: send / say dev: relay / say dev: lift"}, []string{"failed said lift, was refused with NAY now"}, "send|relay|lift", 2 * time.Second},
		{"sends no final result", lines + ", final \"DONE\"", "", says{"relay": "relay is on\r\n"},
			[]string{"say dev: relay / hear dev: relay is on"}, []string{"failed a final result, such as DONE did not come within 2s"}, "relay", 2 * time.Second},
		{"says done before its prompt: the prompt ends the answer", console + ", final \"done\"", "", says{"go": "{line}\r\ndone\r\n{1s}tower# "},
			[]string{"say dev: go / say dev: go"}, []string{"passed"}, "go|go", 2 * time.Second},
		{"has several prompts", console + ", prompt \"tower(setup)#\"", "", says{"setup": "{line}\r\ntower(setup)# ", "": "{line}" + prompt},
			[]string{"say dev: setup", "say dev: leave / hear dev: tower#"}, []string{"passed", "passed"}, "setup|leave", 0},
		{"has a prompt whose words change", "dialect console, prompt \"tower:...#\", ending cr", "", says{"cd": "{line}\r\ntower:/etc# ", "ls": "{line}\r\nrope\r\ntower:/etc# "},
			[]string{"say dev: cd / say dev: ls / hear dev: rope"}, []string{"passed"}, "cd|ls", 0},
		{"colours its prompt", console, "", says{"go": "{line}\r\ngone\r\n\x1b[1mtower\x1b[0m# \x1b[K"},
			[]string{"say dev: go / hear dev: gone"}, []string{"passed"}, "go", 0},
		{"sends its prompt in two parts, and a wait takes the first", console, "", says{"go": "{line}\r\ntow{500ms}er# ", "": "{line}" + prompt},
			[]string{"say dev: go / hear bytes dev: \"tow\"", "say dev: stop"}, []string{"passed", "passed"}, "go|stop", 500 * time.Millisecond},
		{"shows a prompt whose bytes a wait takes", console, "", says{"": "{line}" + prompt},
			[]string{"say dev: go / hear bytes dev: \"#\"", "say dev: stop"}, []string{"passed", "passed"}, "go|stop", 0},
		{"writes a notice behind its prompt", console, "[[notice]]\nname = \"alarm\"\nheard = \"[...] alarm {n:int}\"\n",
			says{"go": "{line}\r\ntower# [118.5] alarm 8\r\n", "": "{line}" + prompt},
			[]string{"say dev: go / hear dev: [...] alarm {n:int} / check n == 8", "say dev: stop"}, []string{"passed", "passed"}, "go|stop", 0},
		{"prints lines that begin with its prompt: they are none", "dialect console, prompt \"#\", ending cr", "", says{"cat": "{line}\r\n# rope\r\n# door\r\n{1s}# "},
			[]string{"say dev: cat / hear dev: # rope", "say dev: cat"}, []string{"passed", "passed"}, "cat|cat", 2100 * time.Millisecond},
		{"prints such a line in two parts", "dialect console, prompt \"#\", ending cr", "", says{"cat": "{line}\r\n#{40ms} rope\r\n{1s}# "},
			[]string{"say dev: cat / hear dev: # rope", "say dev: cat"}, []string{"passed", "passed"}, "cat|cat", 2200 * time.Millisecond},
		{"shows its old prompt before the echo of what it was told", console, "", says{"on": "{line}" + prompt, "go": prompt + "{300ms}{line}\r\n{1s}rope found" + prompt},
			[]string{"say dev: on", "say dev: go", "say dev: on"}, []string{"passed", "passed", "passed"}, "on|go|on", 1400 * time.Millisecond},
		{"shows its prompt just in time", console, "", says{"go": "{line}{1990ms}" + prompt},
			[]string{"say dev: go"}, []string{"passed"}, "go", 2 * time.Second},
		{"stops in the middle of a line: it has not ended", console, "", says{"copy": "{line}\r\ncopying for tower#{1s}3 of 4\r\n{900ms}done" + prompt},
			[]string{"say dev: copy / hear dev: done"}, []string{"passed"}, "copy", 1900 * time.Millisecond},
		{"asks a question, which is answered in the same step", console, "", says{"wipe": "{line}\r\nsure? ", "yes": "{line}\r\nwiped" + prompt},
			[]string{"say dev: wipe / hear bytes dev: \"sure?\" / say dev: yes / hear dev: wiped"}, []string{"passed"}, "wipe|yes", 0},
		{"asks a question that one key answers: its prompt is waited for", console, "", says{"wipe": "{line}\r\nsure? ", "bytes y": "y{1s}\r\nwiped" + prompt},
			[]string{"say dev: wipe / hear bytes dev: \"sure?\" / say bytes dev: y"}, []string{"passed"}, "wipe|y", time.Second},
		{"asks a question at the end of a step: it is busy", console, "", says{"wipe": "{line}\r\nsure? "},
			[]string{"say dev: wipe / hear bytes dev: \"sure?\"", "say dev: yes"}, []string{"failed the prompt tower# did not come", "failed still busy"}, "wipe", 4 * time.Second},
		{"asks a question that the port names as a prompt", console + ", prompt \"sure?\"", "", says{"wipe": "{line}\r\nsure? ", "yes": "{line}\r\nwiped" + prompt},
			[]string{"say dev: wipe", "say dev: yes / hear dev: wiped"}, []string{"passed", "passed"}, "wipe|yes", 0},
		{"turns pages", console + ", pager \"-- more --\"", "", says{"show": "{line}\r\n1\r\n2\r\n-- more --", "bytes  ": "\r           \r3\r\n4" + prompt},
			[]string{"say dev: show / collect x from dev until prompt / check x == \"1\\n2\\n3\\n4\""}, []string{"passed"}, "show| ", 0},
		{"turns pages with a key of its own, and wipes them out with BS", console + ", pager \"...%...\" with \"n\"", "", says{"show": "{line}\r\n1\r\n(25 %)", "bytes n": "\b\b\b\b\b\b      \b\b\b\b\b\b2\r\n(75 %)||\b\b\b\b\b\b      \b\b\b\b\b\b3" + prompt},
			[]string{"say dev: show / collect x from dev until prompt / check x == \"1\\n2\\n3\""}, []string{"passed"}, "show|n|n", 0},
		{"restarts: its banner ends the answer", at, "[banner]\nheard = \"TOWER UP\"\n[[command]]\nsay = \"AT+RESTART\"\nrestart = true\n", says{"AT+RESTART": "{1s}\r\nTOWER UP\r\n", "": ok},
			[]string{"say dev: AT+RESTART", "say dev: AT"}, []string{"passed", "passed"}, "AT+RESTART|AT", time.Second},
		{"restarts a console, whose banner comes and no prompt", console, "[banner]\nheard = \"TOWER UP\"\n[[command]]\nsay = \"restart\"\nrestart = true\n", says{"restart": "{line}\r\n{1s}TOWER UP\r\n", "": "{line}" + prompt},
			[]string{"say dev: restart", "say dev: go"}, []string{"passed", "passed"}, "restart|go", time.Second},
		{"restarts although it was not told to", at, "[banner]\nheard = \"TOWER UP\"\n", says{"AT+POWER=9": "{500ms}\r\nTOWER UP\r\n"},
			[]string{"say dev: AT+POWER=9", "say dev: AT+POWER=9 / hear dev: TOWER UP"}, []string{"failed said AT+POWER=9, and the module restarted: heard TOWER UP", "passed"}, "AT+POWER=9|AT+POWER=9", time.Second},
		{"answers one just within the limit and one just after it", at, "", says{"AT+A": "{1950ms}" + ok, "AT+B": "{2050ms}" + ok},
			[]string{"say dev: AT+A", "say dev: AT+B"}, []string{"passed", "failed"}, "AT+A|AT+B", 4 * time.Second},
	}},
	{"Results as numbers, and none", []habit{
		{"is told to send numbers", at, "", says{"ATV0": "{line}\r0\r", "AT": "{line}\r0\r"},
			[]string{"say dev: ATV0 / hear dev: 0", "say dev: AT"}, []string{"passed", "passed"}, "ATV0|AT", 2 * ms100},
		{"refuses by a number", at, "", says{"ATV0": "0\r", "": "4\r"},
			[]string{"say dev: ATV0", "say dev: AT+NO"}, []string{"passed", "failed said AT+NO, was refused with 4 (ERROR)"}, "ATV0|AT+NO", 2 * ms100},
		{"sends a number that is no result", at, "", says{"ATV0": "0\r", "AT+N?": "0\r\n{1s}4\r"},
			[]string{"say dev: ATV0", "say dev: AT+N? / hear dev: 0"}, []string{"passed", "failed was refused with 4"}, "ATV0|AT+N?", 1200 * time.Millisecond},
		{"sends its value as a number among words", at, "", says{"AT+N?": "\r\n0\r\n{1s}" + ok},
			[]string{"say dev: AT+N? / hear dev: {n:int}"}, []string{"passed"}, "AT+N?", time.Second},
		{"sends a number ended by CR alone among words", at, "", says{"AT": ok, "AT+N?": "0\r{1s}OK\r"},
			[]string{"say dev: AT", "say dev: AT+N? / hear dev: 0"}, []string{"passed", "passed"}, "AT|AT+N?", time.Second},
		{"has been left with numbers by somebody else", at, "", says{"": "0\r"},
			[]string{"say dev: AT", "say dev: AT"}, []string{"passed", "passed"}, "AT|AT", 400 * time.Millisecond},
		{"goes back to words", at, "", says{"ATV0": "0\r", "ATV1": ok, "": "\r\n7\r\n" + ok},
			[]string{"say dev: ATV0 / say dev: ATV1 / say dev: AT+N? / hear dev: 7"}, []string{"passed"}, "ATV0|ATV1|AT+N?", ms100},
		{"is told to send no results", at, "", says{"ATS3?": "013\r\n"},
			[]string{"say dev: ATQ1", "say dev: ATS3? / hear dev: 013", "say dev: ATE0"}, []string{"passed", "passed", "passed"}, "ATQ1|ATS3?|ATE0", 3 * ms100},
		{"refuses to send none: then results are waited for", at, "", says{"ATQ1": no, "AT": ""},
			[]string{"say dev: ATQ1 / pause 50ms", "say dev: AT"}, []string{"failed said ATQ1, was refused with ERROR", "failed nothing came within 2s"}, "ATQ1|AT", 2100 * time.Millisecond},
		{"sends results again", at, "", says{"ATQ1": "||", "ATQ0": ok, "AT": no},
			[]string{"say dev: ATQ1 / say dev: ATQ0", "say dev: AT"}, []string{"passed", "failed was refused"}, "ATQ1|ATQ0|AT", ms100},
	}},
	{"Logins", []habit{
		{"lets somebody in", guarded, "", boot, []string{"log in dev as \"ops\" with code / hear dev: welcome {who} / check who == \"ops\"", "say dev: go"}, []string{"passed", "passed"}, "ops|frost|go", ms100},
		{"asks for a name only after Enter", guarded, "", boot.with(says{"up": "\r\n"}), []string{"log in dev as \"ops\" with code"}, []string{"passed"}, "|ops|frost", 500 * time.Millisecond},
		{"says that the password is wrong", guarded, "", boot.with(says{"frost": "{1s}\r\nLogin incorrect\r\n{3s}tower login: "}),
			[]string{"log in dev as \"ops\" with code"}, []string{"failed the module says no: heard \"Login incorrect\""}, "ops|frost", 3 * time.Second},
		{"asks for the name again", guarded, "", boot.with(says{"frost": "\r\ntower login: "}), []string{"log in dev as \"ops\" with code"}, []string{"failed it is asked for again"}, "ops|frost", ms100},
		{"has a session open already", guarded, "", boot.with(says{"up": prompt, "": prompt}), []string{"log in dev as \"ops\" with code"}, []string{"failed a session is open already"}, "", 0},
		{"asks for no password", guarded, "", boot.with(says{"ops": "{line}" + prompt}), []string{"log in dev as \"ops\" with code"}, []string{"failed no password is asked for"}, "ops", 0},
		{"lets somebody in without a password, as it should", guarded, "", boot.with(says{"ops": "{line}" + prompt}), []string{"log in dev as \"ops\""}, []string{"passed"}, "ops", 0},
		{"asks for a password that nobody has", guarded, "", boot, []string{"log in dev as \"ops\""}, []string{"failed a password is asked for"}, "ops", 0},
		{"waits for the password of somebody else: that is given up", guarded, "", boot.with(says{"up": "Password: ", "": "\r\nLogin incorrect\r\ntower login: "}),
			[]string{"log in dev as \"ops\" with code"}, []string{"passed"}, "|ops|frost", 200 * time.Millisecond},
		{"never shows its prompt after the login", guarded, "", boot.with(says{"frost": "\r\nwelcome\r\n"}), []string{"log in dev as \"ops\" with code within 5s"}, []string{"failed the prompt tower# did not come within 5s"}, "ops|frost", 5 * time.Second},
	}},
	{"What is known is told at once", []habit{
		{"shows its prompt, and the line has not come before it", console, "", says{"go": "{line}\r\nno rope" + prompt},
			[]string{"say dev: go / hear dev within 40s: rope found"}, []string{"failed the prompt is back, and rope found has not come before it"}, "go", 300 * time.Millisecond},
		{"sends its final result, and the line has not come before it", at, "", says{"": ok},
			[]string{"say dev: AT+JOIN / hear dev within 40s: +JOINED"}, []string{"failed the final result has come, and +JOINED has not come before it"}, "AT+JOIN", 300 * time.Millisecond},
		{"sends the line after the end, as is said", at, "", says{"": ok + "{5s}\r\n+JOINED\r\n"},
			[]string{"say dev: AT+JOIN / hear later dev within 40s: +JOINED"}, []string{"passed"}, "AT+JOIN", 5 * time.Second},
		{"sends the line after an end that was heard", at, "", says{"": ok + "{5s}\r\n+JOINED\r\n"},
			[]string{"say dev: AT+JOIN / hear dev: OK / hear dev within 40s: +JOINED"}, []string{"passed"}, "AT+JOIN", 5 * time.Second},
		{"sends a notice after the end", at, "[[notice]]\nname = \"joined\"\nheard = \"+JOINED {where}\"\n", says{"": ok + "{5s}\r\n+JOINED summit\r\n"},
			[]string{"say dev: AT+JOIN / hear dev within 40s: +JOINED summit"}, []string{"passed"}, "AT+JOIN", 5 * time.Second},
		{"sends its banner after the end", at, "[banner]\nheard = \"TOWER UP\"\n", says{"": ok + "{5s}\r\nTOWER UP\r\n"},
			[]string{"say dev: AT+RESTART / hear dev within 40s: TOWER UP"}, []string{"passed"}, "AT+RESTART", 5 * time.Second},
		{"shows an old prompt just before its answer", console, "", says{"go": prompt + "{100ms}{line}\r\nrope found" + prompt},
			[]string{"say dev: go / hear dev: rope found"}, []string{"passed"}, "go", ms100},
		{"ends all that any waits for: nothing has come", at, "", says{"": ok},
			[]string{"say dev: AT+JOIN / any within 40s / case hear dev: +JOINED / fail \"joined\" / case hear dev: +LOST / fail \"lost\" / case nothing / check 1 == 1 / end"}, []string{"passed"}, "AT+JOIN", 300 * time.Millisecond},
		{"ends one of all that must come", at, "", says{"": "\r\n+A\r\n" + ok},
			[]string{"say dev: AT+JOIN / all within 40s / hear dev: +A / hear dev: +B / end"}, []string{"failed the final result has come, and +B has not come before it"}, "AT+JOIN", 300 * time.Millisecond},
		{"ends its answer while another port is waited at", at, "", says{"": ok, "far up": "{5s}\r\nhello\r\n"},
			[]string{"say dev: AT+PASS / hear far within 15s: hello", "say dev: AT+PASS / any within 1s / case hear dev: +SENT / fail \"sent\" / case hear far: more / fail \"more\" / case nothing / check 1 == 1 / end"}, []string{"passed", "passed"}, "AT+PASS|AT+PASS", 6 * time.Second},
	}},
	{"What is heard", []habit{
		{"colours the bytes that are waited for", console, "", says{"go": "{line}\r\n\x1b[32mrope\x1b[0m \x1b[1mfound\x1b[0m" + prompt},
			[]string{"say dev: go / hear bytes dev: rope found"}, []string{"passed"}, "go", 0},
		{"ends a long answer with bytes", console, "", says{"go": "{line}\r\n  rope 1\r\n\r\n    door 2{500ms} end# of it\r\n{500ms}tower# "},
			[]string{"say dev: go / collect x from dev until bytes: end# / check x == \"  rope 1\\n\\n    door 2 end#\" / hear dev: of it"}, []string{"passed"}, "go", time.Second},
		{"ends it with bytes that come in two parts", console, "", says{"go": "{line}\r\nrope e{500ms}nd#" + prompt},
			[]string{"say dev: go / collect x from dev until bytes: end# / check x == \"rope end#\""}, []string{"passed"}, "go", 500 * time.Millisecond},
		{"never sends the bytes that would end it", console, "", says{"go": "{line}\r\nrope" + prompt},
			[]string{"say dev: go / collect x from dev until bytes within 3s: end#"}, []string{"failed end# did not come within 3s"}, "go", 3 * time.Second},
		{"indents what it prints, and leaves lines empty", console, "", says{"go": "{line}\r\n{1s}  rope:\r\n\r\n    length 9 \r\ndoor:" + prompt},
			[]string{"say dev: go / collect x from dev until prompt / check x == \"  rope:\\n\\n    length 9 \\ndoor:\""}, []string{"passed"}, "go", time.Second},
		{"ends its lines with LF CR", console, "", says{"go": "{line}\n\rrope\n\rdoor\n\r\n\rend\n\rtower# "},
			[]string{"say dev: go / collect x from dev until prompt / check x == \"rope\\ndoor\\n\\nend\""}, []string{"passed"}, "go", 0},
		{"sends no line end", lines, "", says{"go": "lamp is lit"},
			[]string{"say dev: go / hear dev: lamp is lit"}, []string{"failed lamp is lit did not come within 2s"}, "go", 2 * time.Second},
		{"only repeats what it is told", lines, "", says{"go": "{line}\r\n"},
			[]string{"say dev: go / hear dev: lamp is lit"}, []string{"failed lamp is lit did not come"}, "go", 2 * time.Second},
		{"repeats what it is told in the answer's own line", lines, "", says{"go": "{line} lamp is lit\r\n"},
			[]string{"say dev: go / hear dev: lamp is {how}"}, []string{"passed"}, "go", 0},
		{"says nothing at all", at, "", says{}, []string{"say dev: AT"}, []string{"failed nothing came within 2s"}, "AT", 2 * time.Second},
		{"sends one letter at a time", at, "", says{"": "\r{100ms}\n{100ms}O{100ms}K{100ms}\r{100ms}\n"}, []string{"say dev: AT / say dev: AT"}, []string{"passed"}, "AT|AT", 900 * time.Millisecond},
		{"speaks first", lines, "", says{"up": "{500ms}ready\r\n"}, []string{"hear dev: ready"}, []string{"passed"}, "", 500 * time.Millisecond},
	}},
	{"Refusals, and ports that are lost", []habit{
		{"refuses behind an echo that is joined to it", "dialect console, prompt \"ok\", ending cr", refusing("undefined word"), says{"": "{line}  undefined word\r\nok "},
			[]string{"say dev: lamp"}, []string{"failed said lamp, was refused with lamp  undefined word"}, "lamp", 0},
		{"refuses in dialect lines: the wait ends at once", lines, refusing("what? ..."), says{"": "what? relay\r\n"},
			[]string{"say dev: relay 9 on / hear dev within 10s: relay 9 is on", "say dev: relay 9 on / hear dev: what? ..."},
			[]string{"failed was refused with what? relay", "passed"}, "relay 9 on|relay 9 on", 0},
		{"refuses while another port is waited at", at, "", says{"": no},
			[]string{"say dev: AT+TELL / hear far within 15s: hello"}, []string{"failed dev: said AT+TELL, was refused with ERROR"}, "AT+TELL", 0},
		{"refuses while another port must be quiet", at, "", says{"": no},
			[]string{"say dev: AT+TELL / not hear far for 5s: hello"}, []string{"failed dev: said AT+TELL, was refused with ERROR"}, "AT+TELL", 0},
		{"refuses a command that much is gathered from", console, refusing("no such word: ..."), says{"": "{line}\r\nno such word: {line}" + prompt},
			[]string{"say dev: lamp / collect x from dev until prompt"}, []string{"failed was refused with no such word: lamp"}, "lamp", 0},
		{"goes away in the middle of an answer", at, "", says{"AT": "{1s}\r\n+RO{gone}"},
			[]string{"say dev: AT", "always: say dev: AT+BACK"}, []string{"broken", "broken"}, "AT", time.Second},
		{"goes away while nobody speaks to it", at, "", says{"AT": ok + "{1s}{gone}"},
			[]string{"say dev: AT", "pause 3s / say dev: AT"}, []string{"passed", "broken"}, "AT", 3 * time.Second},
	}},
}
