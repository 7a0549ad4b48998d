package writing

import "uparrot/core/procedure"

// word is a word of the language: how it is written, and what it does.
type word struct {
	name, form, does string
}

// header are the words that stand outside steps, statements those of a block; those that are written most
// first.
var header, statements = wordsOf(procedure.Header()), wordsOf(procedure.Statements())

func wordsOf(list []procedure.Word) (all []word) {
	for _, w := range list {
		all = append(all, word{w.Name, w.Form(), w.Does()})
	}
	return all
}

// portWords say how a port is spoken to.
var portWords = []word{
	{"dialect", "dialect at|console|lines|bytes", "how commands and answers follow each other"},
	{"speed", "speed 115200", "of the line, in baud"},
	{"frame", "frame 8N1", "data bits, parity N E O M S, stop bits"},
	{"ending", "ending cr|lf|crlf|none", "what follows a said line"},
	{"flow", "flow none|rtscts|xonxoff", "flow control"},
	{"phrasebook", `phrasebook "FILE"`, "what the module family understands"},
	{"prompt", `prompt "TEXT"`, "what stands at the end when a command is waited for"},
	{"notice", `notice "TEXT"`, "a line that the module sends by itself"},
	{"final", `final "TEXT"`, "a line that ends an answer"},
	{"refusal", `refusal "TEXT"`, "a line that says no"},
	{"pager", `pager "TEXT" [with "TEXT"]`, "pager prompt"},
	{"login", `login "TEXT"`, "the prompt for a name"},
	{"password", `password "TEXT"`, "the prompt for a password"},
	{"denied", `denied "TEXT"`, "a line that says that these are wrong"},
	{"tcp", `tcp [to] "HOST:PORT"`, "a socket of this machine, or with to one of somebody else"},
	{"udp", `udp [to] "HOST:PORT"`, "the same with datagrams"},
}

// stepWords follow a step's title.
var stepWords = []word{
	{"tries", "tries N", "begins anew after a failure"},
	{"every", "every T", "from the beginning of one try to that of the next"},
	{"within", "within T", "for all tries together"},
	{"needed", "needed", "is performed also where only other steps were asked for"},
	{"always", "always", "is performed also after a failure"},
	{"uses", "uses NAME", "waits until no other slot of the bench uses it"},
}

// lineWords are what line changes.
var lineWords = []word{
	{"speed", "speed 57600", "in baud, or {EXPRESSION}"}, {"frame", "frame 7E1", "data bits, parity, stop bits"}, {"ending", "ending cr", "what follows a said line"},
	{"dialect", "dialect lines", "how commands and answers follow each other"}, {"dtr", "dtr on|off", "a signal line"}, {"rts", "rts on|off", "a signal line"},
	{"break", "break 250ms", "a break of so long"}, {"reopen", "reopen [within T]", "waits for a port that goes away and comes back"},
}

// values are what may stand behind some words.
var values = map[string][]word{
	"dialect": {{"at", "", "final results end an answer (V.250)"}, {"console", "", "a prompt ends an answer"}, {"lines", "", "answers have no end of their own"}, {"bytes", "", "there are no lines"}},
	"ending":  {{"cr", "", "carriage return"}, {"lf", "", "line feed"}, {"crlf", "", "both"}, {"none", "", "nothing"}},
	"flow":    {{"none", "", "no flow control"}, {"rtscts", "", "by signal lines"}, {"xonxoff", "", "by bytes"}},
	"frame":   {{"8N1", "", "8 data bits, no parity, 1 stop bit"}, {"8E1", "", "even parity"}, {"8O1", "", "odd parity"}, {"7E1", "", "7 data bits, even parity"}},
	"speed":   {{"9600", "", "baud"}, {"19200", "", "baud"}, {"38400", "", "baud"}, {"57600", "", "baud"}, {"115200", "", "baud"}},
	"dtr":     {{"on", "", ""}, {"off", "", ""}},
	"rts":     {{"on", "", ""}, {"off", "", ""}},
	"power":   {{"on", "", "gives it power"}, {"off", "", "takes it away"}, {"cycle", "", "off and on again"}},
	"input":   {{"int", "", "a whole number"}, {"num", "", "a number with fraction"}, {"text", "", "a text"}},
	"capture": {{"int", "", "a whole number"}, {"num", "", "a number with fraction"}, {"hex", "", "hexadecimal digits"}, {"word", "", "text without blanks"}, {"quoted", "", "text in double quotes"}, {"ipv4", "", "four numbers with dots"}, {"bytes(n)", "", "exactly n bytes"}, {"u8", "", "a byte as a number"}, {"u16", "", "two bytes, the highest first"}},
}

// functions are what expressions can call.
var functions = []word{
	{"len", "len(x)", "how many bytes a text has, or how many elements a list"},
	{"upper", "upper(s)", "in capitals"}, {"lower", "lower(s)", "in small letters"}, {"trim", "trim(s)", "without blanks at both ends"},
	{"replace", "replace(s, old, new)", "with one text in place of another"}, {"split", "split(s, sep)", "its parts"}, {"join", "join(list, sep)", "the parts as one text"}, {"repeat", "repeat(s, n)", "the text n times"},
	{"string", "string(x)", "as text"}, {"int", "int(x)", "as a whole number"}, {"float", "float(x)", "as a number with fraction"}, {"number", "number(s)", "the number that a text is"},
	{"hex", "hex(n)", "hexadecimal digits of a whole number"}, {"unhex", "unhex(s)", "the number that hexadecimal digits are"},
	{"byte", "byte(s, n)", "one byte of captured bytes, from 0"}, {"uint", "uint(s)", "all of them as a number, the highest first"}, {"char", "char(n)", "the byte of a value"},
	{"elapsed", "elapsed()", "seconds since this try of the step began"}, {"since", "since(NAME)", "seconds since a name got its value"}, {"now", "now()", "the time of day as text"},
	{"sum8", "sum8(s)", "the sum of all bytes, modulo 256"}, {"xor8", "xor8(s)", "all bytes combined by exclusive or"}, {"crc16", `crc16(s, "v.41")`, "the cyclic redundancy check of 16 bits by a standard"}, {"crc32", "crc32(s)", "that of 32 bits of ITU-T V.42"},
	{"bits", "bits(n, from, count)", "some bits of a number, bit 0 being the lowest"},
	{"abs", "abs(x)", "without its sign"}, {"min", "min(a, b)", "the lesser"}, {"max", "max(a, b)", "the greater"}, {"round", "round(x)", "the nearest whole number"}, {"floor", "floor(x)", "the whole number below"}, {"ceil", "ceil(x)", "the whole number above"},
	{"json", "json(s)", "what a text of JSON says (RFC 8259)"}, {"xpath", "xpath(s, path)", "the text of the first node of XML that an XPath 1.0 finds"},
}

// find is a word of a table; nil if it is not there.
func find(table []word, name string) *word {
	for i := range table {
		if table[i].name == name {
			return &table[i]
		}
	}
	return nil
}
