//go:build unix

package tests

import (
	"strings"

	"uparrot/core/uart"
)

// The answers of most modules: two of which something depends on the module's value.
var (
	inAT    = map[string]string{"AT": "\r\nOK\r\n", "AT+PRES?": "\r\n+PRES: @\r\n\r\nOK\r\n", "AT+NAME?": "\r\n+NAME: gondola\r\n\r\nOK\r\n"}
	askedAT = []string{"AT", "AT+PRES?", "AT+NAME?"}
	inWords = map[string]string{"pressure": "pressure @ bar\r\n", "name": "gondola 4\r\n", "who": "larkfell board\r\n"}
	asked   = []string{"who", "pressure", "name"}
)

// finished are answers with one more line at their ends.
func finished(answers map[string]string, with string) map[string]string {
	all := map[string]string{}
	for line, answer := range answers {
		all[line] = answer + with
	}
	return all
}

// slowed are answers that begin later.
func slowed(answers map[string]string, pause string) map[string]string {
	all := map[string]string{}
	for line, answer := range answers {
		all[line] = pause + answer
	}
	return all
}

// pieces is a text with a pause behind every so many bytes.
func pieces(text string, n int, pause string) string {
	var b strings.Builder
	for i := 0; i < len(text); i += n {
		b.WriteString(text[i:min(len(text), i+n)] + pause)
	}
	return b.String()
}

var habits = []habit{
	// The standard's own answers, in every way in which they come.
	{name: "answers of the standard", answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "ending cr, dialect at (sure", hears: "+NAME: gondola"},
	{name: "with an echo of each byte", echo: byByte, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "dialect at", hears: "+NAME: gondola"},
	{name: "with an echo of the line", echo: byLine, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "dialect at", hears: "+NAME: gondola"},
	{name: "with an echo that comes late", echo: lateEcho, answers: inAT, says: askedAT, wake: []string{"AT"}, probe: []string{"--within", "1200ms", "--speeds", "115200,9600"}, probed: "dialect at", hears: "+NAME: gondola"},
	{name: "lines that end with LF alone", answers: map[string]string{"AT": "OK\n", "AT+PRES?": "+PRES: @\nOK\n"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "lines that end with CR alone", answers: map[string]string{"AT": "OK\r", "AT+PRES?": "+PRES: @\rOK\r"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "empty lines between", answers: map[string]string{"AT": "\r\n\r\nOK\r\n\r\n", "AT+PRES?": "\r\n\r\n+PRES: @\r\n\r\n\r\nOK\r\n\r\n"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "a byte at a time", answers: map[string]string{"AT": pieces("\r\nOK", 1, "{20}") + "\r\n", "AT+PRES?": pieces("\r\n+PRES: ", 1, "{20}") + "@" + pieces("\r\n\r\nOK", 1, "{20}") + "\r\n"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "half a second each", answers: slowed(inAT, "{500}"), says: askedAT, wake: []string{"AT"}, probe: []string{"--within", "1200ms", "--speeds", "115200,9600"}, probed: "dialect at", hears: "+NAME: gondola"},
	{name: "a silence in the middle of an answer", answers: map[string]string{"AT": "\r\nOK\r\n", "AT+PRES?": "\r\n+PRES: @\r\n{900}\r\nOK\r\n"}, says: []string{"AT+PRES?", "AT"}, wake: []string{"AT"}, probed: "dialect at", hears: "< OK"},
	{name: "a notice in the midst of an answer", answers: map[string]string{"AT": "\r\nOK\r\n", "AT+PRES?": "\r\n+WIND: 12\r\n\r\n+PRES: @\r\n\r\n+WIND: 13\r\n\r\nOK\r\n"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42", bench: ""},
	{name: "a notice joined to the end", answers: map[string]string{"AT": "\r\nOK\r\n", "AT+PRES?": "\r\n+PRES: @\r\n\r\nOK\r\n+WIND: 12\r\n"}, says: []string{"AT", "AT+PRES?", "AT"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "results as numbers", answers: map[string]string{"AT": "0\r", "ATV0": "0\r", "AT+PRES?": "+PRES: @\r\n0\r"}, says: []string{"ATV0", "AT+PRES?"}, wake: []string{"AT", "ATV0"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "a refusal in the standard's words", answers: finished(inAT, ""), other: "\r\nERROR\r\n", says: []string{"AT", "AT+LAMP=9", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "8E1", line: uart.Line{Speed: 115200, Frame: uart.Frame{DataBits: 8, Parity: uart.Even, Stop: 2}}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "115200 8E1", hears: "+NAME: gondola"},
	{name: "7O1 at 9600", line: uart.Line{Speed: 9600, Frame: uart.Frame{DataBits: 7, Parity: uart.Odd, Stop: 2}}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "9600 7O1", hears: "+NAME: gondola"},
	{name: "at 19200", line: uart.Line{Speed: 19200}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "19200 8N1", hears: "+NAME: gondola"},

	// Ends of their own.
	{name: "a final result of its own", answers: finished(inWords, "{50}[done]\r\n"), says: asked, wake: []string{"who", "name"}, probed: `final "[done]"`, hears: "gondola 4"},
	{name: "a final result in small letters", answers: finished(inWords, "ok\r\n"), says: asked, wake: []string{"who", "name"}, probed: `final "ok"`, hears: "gondola 4"},
	{name: "a final result that comes late", answers: finished(inWords, "{180}ready\r\n"), says: asked, wake: []string{"who", "name"}, probed: `final "ready"`, hears: "gondola 4"},
	{name: "refusals in words", answers: inWords, other: "what? %\r\n", says: []string{"who", "lamp", "pressure"}, wake: []string{"who", "name"}, probed: "dialect lines", bench: "refusal = \"what? ...\"\n", hears: "pressure 42 bar"},
	{name: "no end at all", answers: inWords, says: asked, wake: []string{"who"}, probed: "dialect lines", hears: "gondola 4"},
	{name: "no end, and each answer after 700 ms", answers: slowed(inWords, "{700}"), says: asked, wake: []string{"who"}, probe: []string{"--within", "1s", "--speeds", "115200,9600"}, probed: "115200 8N1", hears: "gondola 4"},
	{name: "no end, and lines 50 ms apart", answers: map[string]string{"who": "larkfell board\r\n{50}winch house\r\n{50}unit 3\r\n", "pressure": "air\r\n{50}pressure @ bar\r\n{50}oil 11 bar\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "oil 11 bar"},
	{name: "an answer after ten seconds", answers: map[string]string{"who": "larkfell board\r\ndone\r\n", "name": "gondola 4\r\ndone\r\n", "pressure": "{10000}pressure @ bar\r\ndone\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who", "name"}, probed: `final "done"`, hears: "pressure 42 bar"},
	{name: "it ends lines with LF", ends: "\n", answers: inWords, says: asked, wake: []string{"who"}, probed: "ending lf", hears: "gondola 4"},
	{name: "it wants CR and LF", ends: "\r\n", answers: inWords, says: asked, wake: []string{"who"}, probed: "ending crlf", hears: "gondola 4"},
	{name: "blanks at the ends of lines", answers: map[string]string{"who": "larkfell board  \r\n", "pressure": "  pressure @ bar \r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure 42 bar"},
	{name: "braces, quotes and slashes", answers: map[string]string{"who": "{{board}} \"3\"\r\n", "pressure": "/{\"bar\": @}/\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: `/{"bar": 42}/`},
	{name: "letters of other tongues", answers: map[string]string{"who": "Tür 3\r\n", "pressure": "Druck @ bar, Höhe 1\r\n"}, says: []string{"pressure"}, wake: []string{"pressure"}, probed: "dialect lines", hears: "Druck 42 bar"},
	{name: "colours within words", answers: map[string]string{"who": "\x1b[1mlark\x1b[0mfell board\r\n", "pressure": "pres\x1b[31msure @ b\x1b[0mar\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure 42 bar"},
	{name: "a long answer", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "pressure @ bar\r\n" + strings.Repeat("cabin empty\r\n", 60) + "end of list\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "end of list"},
	{name: "chatter between the answers", answers: inWords, chatter: "rope 12 m\r\n", says: asked, wake: []string{"who"}, probed: "115200 8N1", hears: "gondola 4"},
	{name: "it only talks", chatter: "rope speed 4.1, rope length 3022\r\n", probed: "115200 8N1"},

	// Consoles.
	{name: "a prompt", prompt: "tower> ", answers: inWords, says: asked, probed: `dialect console, prompt "tower>"`, hears: "gondola 4"},
	{name: "a prompt without a blank", prompt: "tower>", answers: inWords, says: asked, probed: `dialect console, prompt "tower>"`, hears: "gondola 4"},
	{name: "a prompt of one sign", prompt: "# ", answers: inWords, says: asked, probed: `dialect console, prompt "#"`, hears: "gondola 4"},
	{name: "a prompt in colours, and an echo", prompt: "\x1b[32mtower\x1b[0m$ ", echo: byByte, answers: map[string]string{"who": "\r\nlarkfell board\r\n", "pressure": "\r\npressure @ bar\r\n", "": "\r\n"}, says: []string{"who", "pressure"}, probed: `dialect console, prompt "tower$"`, hears: "pressure 42 bar"},
	{name: "a prompt, and an echo of the line", prompt: "tower> ", echo: byLine, answers: inWords, says: asked, probed: `prompt "tower>"`, hears: "gondola 4"},
	{name: "a line like the prompt within an answer", prompt: "# ", answers: map[string]string{"who": "# larkfell\r\n{5}# board\r\n", "pressure": "# in bar\r\npressure @ bar\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "#"`, hears: "pressure 42 bar"},
	{name: "a prompt after two seconds", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "{2000}pressure @ bar\r\n{300}"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "refusals at a console", prompt: "tower> ", answers: inWords, other: "unknown command %\r\n", says: []string{"who", "lamp", "pressure"}, probed: `prompt "tower>"`, bench: "refusal = \"unknown command ...\"\n", hears: "pressure 42 bar"},
	{name: "a banner when it is first spoken to", boot: "\xfe\xf8\x80larkfell tower 1.4\r\n", prompt: "tower> ", answers: inWords, says: asked, probed: `prompt "tower>"`, hears: "gondola 4"},
	{name: "a pager", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "log": "cabin 1 empty\r\ncabin 2 empty\r\n-- more --"}, keys: map[string]string{" ": "\r\npressure @ bar\r\ncabin 3 empty\r\n"}, says: []string{"who", "log", "who"}, probed: `prompt "tower>"`, bench: "pager = \"-- more --\"\n", hears: "cabin 3 empty", bad: []string{}},
	{name: "a login", prompt: "tower> ", answers: map[string]string{"logout": "name: ", "crew": "code: ", "snowline-7": "welcome\r\n", "pressure": "pressure @ bar\r\n"}, says: []string{"logout", "crew", "{secret wicket}", "pressure"}, probed: `prompt "tower>"`, bench: "login = \"name:\"\npassword = \"code:\"\n", hears: "pressure 42 bar"},
	{name: "a question before it acts", prompt: "tower> ", answers: map[string]string{"restart": "sure? [y/n] ", "y": "restarting\r\n{600}pressure @ bar\r\n"}, says: []string{"restart", "y"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "a code is asked for in the middle", answers: map[string]string{"who": "larkfell board\r\n", "unlock": "access code: ", "snowline-7": "\r\nunlocked, pressure @ bar\r\n"}, says: []string{"who", "unlock", "{secret wicket}"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure 42 bar"},
	{name: "two results in one", answers: map[string]string{"AT": "\r\nOK\r\n\r\nOK\r\n", "AT+PRES?": "\r\n+PRES: @\r\n\r\nOK\r\n"}, says: []string{"AT+PRES?", "AT"}, wake: []string{"AT"}, probed: "dialect at", hears: "+PRES: 42"},
	// In the order of time, and as on a terminal.
	{name: "blanks that align its columns", answers: map[string]string{"who": "board     larkfell\r\n", "pressure": "pressure     @    bar\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure     42    bar"},
	{name: "a prompt behind other text", prompt: "[5.2] main> ", answers: inWords, says: asked, probed: "dialect console", hears: "gondola 4"},
	{name: "a prompt in a bracket", prompt: "[main]> ", answers: inWords, says: asked, probed: `prompt "[main]>"`, hears: "gondola 4"},
	{name: "a prompt that is redrawn", prompt: "tower> \r\x1b[7C", answers: inWords, says: asked, probed: `prompt "tower>"`, hears: "gondola 4"},
	{name: "an answer of one value", answers: map[string]string{"who": "larkfell\r\n", "pressure": "@\r\n", "name": "gondola 4\r\n"}, says: asked, wake: []string{"who", "name"}, probed: "dialect lines", hears: "42"},
	{name: "NULs round its lines", prompt: "tower> ", answers: map[string]string{"who": "\x00larkfell board\x00\r\n", "pressure": "\x00pressure @ bar\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "a count on one line", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "10 %{60}\r60 %{60}\r100 %\r\npressure @ bar\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "an answer in the words of the question", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "pressure @ bar\r\n", "lamp on": "lamp on\r\n"}, says: []string{"who", "lamp on", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure 42 bar"},
	{name: "an echo, and an end of its own", echo: byLine, answers: finished(inWords, "[done]\r\n"), says: asked, wake: []string{"who", "name"}, probed: `final "[done]"`, hears: "gondola 4"},
	{name: "an echo of each byte, and no end", echo: byByte, answers: finished(map[string]string{"who": "\r\nlarkfell board\r\n", "pressure": "\r\npressure @ bar\r\n", "name": "\r\ngondola 4\r\n"}, ""), says: asked, wake: []string{"who", "name"}, probed: "dialect lines", hears: "gondola 4"},
	{name: "ERROR to the attention command", answers: inWords, other: "ERROR\r\n", says: asked, wake: []string{"AT", "who"}, probed: "dialect lines", bench: "refusal = \"ERROR\"\n", hears: "gondola 4"},
	{name: "results as numbers, and an echo", echo: byByte, answers: map[string]string{"AT": "0\r", "ATV0": "0\r", "AT+PRES?": "+PRES: @\r\n0\r"}, says: []string{"ATV0", "AT+PRES?"}, wake: []string{"AT", "ATV0"}, probed: "dialect at", hears: "+PRES: 42"},
	{name: "8O1", line: uart.Line{Speed: 115200, Frame: uart.Frame{DataBits: 8, Parity: uart.Odd, Stop: 2}}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "115200 8O1", hears: "+NAME: gondola"},
	{name: "7E1 at 9600", line: uart.Line{Speed: 9600, Frame: uart.Frame{DataBits: 7, Parity: uart.Even, Stop: 2}}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "9600 7E1", hears: "+NAME: gondola"},
	{name: "at 57600", line: uart.Line{Speed: 57600}, answers: inAT, says: askedAT, wake: []string{"AT"}, probed: "57600 8N1", hears: "+NAME: gondola"},
	{name: "a console that also sends by itself", prompt: "tower> ", chatter: "rope 12 m\r\n", answers: inWords, says: asked, probed: `prompt "tower>"`, hears: "gondola 4"},
	{name: "signs to draw with", prompt: "tower> ", answers: map[string]string{"who": "── larkfell ──\r\n", "pressure": "── pressure @ bar ──\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "── pressure 42 bar ──"},
	{name: "a prompt with a path that changes", prompt: "tower:/lower$ ", answers: inWords, says: asked, probed: `prompt "tower:/lower$"`, hears: "gondola 4"},
	{name: "a pager right behind text", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "log": "cabin 1 empty\r\ncabin 2 empty--more--"}, keys: map[string]string{" ": "\r\npressure @ bar\r\ncabin 3 empty\r\n"}, says: []string{"who", "log", "who"}, probed: `prompt "tower>"`, bench: "pager = \"--more--\"\n", hears: "cabin 3 empty", bad: []string{}},
	{name: "a countdown in an answer", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "3{80}\b2{80}\b1{80}\b0\r\npressure @ bar\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "an end like a line of its answers", answers: map[string]string{"who": "ready to board\r\nready\r\n", "pressure": "ready at @ bar\r\nready\r\n", "name": "gondola 4\r\nready\r\n"}, says: asked, wake: []string{"who", "name"}, probed: `final "ready"`, hears: "ready at 42 bar"},
	{name: "tabs between its words", answers: map[string]string{"who": "larkfell\tboard\r\n", "pressure": "pressure\t@\tbar\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "42"},
	{name: "lines that end with LF CR", answers: map[string]string{"who": "larkfell board\n\r", "pressure": "pressure @ bar\n\r"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: "pressure 42 bar"},
	{name: "an old prompt shown twice", prompt: "tower> \r\ntower> ", answers: inWords, says: asked, probed: `prompt "tower>"`, hears: "gondola 4"},
	{name: "an answer that begins at once and ends late", prompt: "tower> ", answers: map[string]string{"who": "larkfell board\r\n", "pressure": "measuring{700}\r\npressure @ bar\r\n"}, says: []string{"who", "pressure"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "capitals", answers: map[string]string{"WHO": "LARKFELL BOARD\r\n", "PRESSURE": "PRESSURE @ BAR\r\n"}, says: []string{"WHO", "PRESSURE"}, wake: []string{"WHO"}, probed: "dialect lines", hears: "PRESSURE 42 BAR"},
	{name: "values as JSON", answers: map[string]string{"who": "{{\"board\": 3}}\r\n", "pressure": "{{\"bar\": @, \"oil\": [1, 2]}}\r\n"}, says: []string{"who", "pressure"}, wake: []string{"who"}, probed: "dialect lines", hears: `"bar": 42`},
	{name: "a refusal within an answer", prompt: "tower> ", answers: inWords, other: "no such word: %\r\nsee help\r\n", says: []string{"who", "lamp", "pressure"}, probed: `prompt "tower>"`, bench: "refusal = \"no such word: ...\"\n", hears: "pressure 42 bar"},
	{name: "a second question in one answer", prompt: "tower> ", answers: map[string]string{"wipe": "all? [y/n] ", "y": "sure? [yes/no] ", "yes": "wiped\r\npressure @ bar\r\n"}, says: []string{"wipe", "y", "yes"}, probed: `prompt "tower>"`, hears: "pressure 42 bar"},
	{name: "a beat between the lines of an answer", answers: map[string]string{"AT": "\r\nOK\r\n", "AT+PRES?": "\r\n* beat 7\r\n\r\n+PRES: @\r\n* beat 8\r\n\r\nOK\r\n"}, says: []string{"AT", "AT+PRES?"}, wake: []string{"AT"}, probed: "dialect at", bench: "notice = \"* beat {n:int}\"\n", hears: "+PRES: 42"},
	{name: "binary with a sum", bytes: true, answers: map[string]string{"I": "\xa8\x02\x01{sum}", "W": "\xa7\x00@\x81{sum}"}, says: []string{"I", "W", "W"}, fails: true, probed: "no setting was found", bench: "dialect = \"bytes\"\nending = \"none\"\n", hears: ".42.", bad: []string{"39 39", "34 32"}},
	{name: "binary in pieces", bytes: true, answers: map[string]string{"W": "\xa7{10}\x00{10}@{10}\xff\x81"}, says: []string{"W", "W"}, fails: true, probed: "no setting was found", bench: "dialect = \"bytes\"\nending = \"none\"\n", hears: "42", bad: []string{"39 39", "34 32"}},
}
