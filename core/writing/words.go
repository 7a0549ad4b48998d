package writing

// word is a word of the language: how it is written, and what it does.
type word struct {
	name, form, does string
}

// header are the words that stand outside steps, those that are written most first.
var header = []word{
	{"step", `step "TITLE" [tries N [every T]] [within T] [needed] [always] [uses NAME]`, "statements that pass or fail together, up to end"},
	{"port", `port NAME: dialect at, speed 115200, ending cr, phrasebook "FILE"`, "a port that the procedure speaks at, and how"},
	{"input", `input NAME[: int|num|text [LOW..HIGH]] [= DEFAULT] ["MEANING"]`, "a value that is given at the start"},
	{"secret", `secret NAME ["MEANING"]`, "a value that is asked for at the start and shown nowhere"},
	{"let", "let NAME = EXPRESSION", "a value"},
	{"procedure", `procedure "TITLE"`, "what it does, in a few words"},
	{"about", `about "SENTENCE"`, "what it is for"},
	{"include", `include "FILE"`, "the routines and steps of another file"},
	{"routine", "routine NAME(A, B)", "statements that do performs, up to end"},
	{"answers", "answers within T", "how long an answer may take where nothing else is said"},
	{"keep", "keep going", "a failed step does not stop the others"},
}

// statements are the words of a block.
var statements = []word{
	{"say", "say PORT: TEXT", "says the text and the port's line ending"},
	{"hear", "hear PORT [within T]: TEXT", "a line that matches must come within the time"},
	{"check", `check EXPRESSION ["WHY"]`, "fails the step if it is false, and shows the values"},
	{"limit", `limit EXPRESSION in LOW..HIGH [UNIT] ["WHAT"]`, "a measurement with limits; one side may be open"},
	{"note", `note EXPRESSION [in UNIT] ["WHAT"]`, "keeps a value without limits"},
	{"pause", "pause T", "waits a fixed time"},
	{"set", "set PORT SETTING = EXPRESSION", "writes a setting, and reads it back where that shows at once"},
	{"get", "get PORT SETTING as NAME", "reads a setting, or what the module says that it is"},
	{"not", "not hear PORT for T: TEXT", "no such line may come during the time"},
	{"any", "any [within T]", "whichever case comes first decides, up to end"},
	{"case", "case hear PORT: TEXT", "one of the things that may come, or case nothing"},
	{"all", "all [within T]", "all of these hear lines must come, in any order, up to end"},
	{"if", "if CONDITION", "what follows is done where it is true, up to else or end"},
	{"else", "else [if CONDITION]", "what is done otherwise"},
	{"repeat", "repeat [N times] [for T] [every T]", "does what follows again and again, up to end"},
	{"for", "for NAME in LIST", "does what follows for each element, up to end"},
	{"do", "do ROUTINE(X, Y)", "performs a routine that stands above"},
	{"let", "let NAME = EXPRESSION", "a value"},
	{"collect", "collect NAME from PORT until prompt [within T]", "gathers lines into one value; also until quiet T, or until: TEXT"},
	{"keep", `keep NAME as "FILE"`, "keeps a value as a file beside the record"},
	{"ask", `ask operator "QUESTION" [as NAME[: TYPE]]`, "yes, or the step fails; with a name asks for a value"},
	{"tell", `tell operator "TEXT"`, "says what to do, and goes on"},
	{"power", "power PORT on|off|cycle [for T]", "gives the module power or takes it away"},
	{"line", "line PORT speed N, frame 8N1, dtr on, break 250ms, reopen", "changes the port"},
	{"link", "link A B count N every T [size BYTES] [both] [loss <= 2%] [p95 <= 150ms]", "a link test with its limits"},
	{"watch", "watch [N times] [for T]", "reads values as they come, or polled, up to end"},
	{"poll", "poll PORT every T: TEXT", "says this at a pace, in a watch"},
	{"reading", "reading PORT [within T]: TEXT", "what is heard in a watch, and what is done with it"},
	{"until", "until CONDITION", "ends the watch when it is true"},
	{"rows", "rows PORT until prompt", "judges a table that one answer gives, up to end"},
	{"row", "row: TEXT", "how a row of it looks"},
	{"quiet", "quiet PORT T [within T]", "waits until nothing has come for so long"},
	{"identity", "identity EXPRESSION", "the module itself names the unit"},
	{"settings", `settings PORT match "FILE"`, "holds the module's settings against a file"},
	{"reach", `reach "HOST" tcp PORT [within T]`, "something in the network takes a connection, or answers a ping"},
	{"log", "log in PORT as EXPRESSION [with SECRET] [within T]", "logs in at a console"},
	{"fail", `fail "WHY"`, "ends the step at once as failed"},
	{"skip", `skip "WHY"`, "ends the step at once as skipped"},
	{"end", "end", "closes the block"},
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
	{"pager", `pager "TEXT" [with "TEXT"]`, "what waits within an answer to be told to go on"},
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
