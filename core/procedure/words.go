package procedure

import (
	"cmp"
	"slices"
	"strings"
)

// Word is a word that a line of a procedure begins with: all that is known of it. How it is read, laid out,
// completed, coloured in an editor and told of in docs/language.md comes from here.
type Word struct {
	Name  string
	Forms []Form // the plainest first

	read    reader
	opens   bool     // begins a block, up to end
	part    bool     // stands within a block, one step further out than its statements
	text    bool     // behind a colon is the module's own text, in which blanks count
	whole   string   // with the words that belong to it, where it does not stand alone
	called  []string // what other languages call it
	example string   // where it is written otherwise than there
	table   table    // of the page
}

// Form is a way to write a line, and what it does, in Markdown as the page has it.
type Form struct{ Line, Does string }

// table is where on the page a word stands.
type table int

const (
	statements table = iota
	choosing         // and repeating
	watching
)

// The words of the header and of a block, those that are written most first. A new statement is an entry
// here, its node and its reader in a file beside this one, and what it does in package perform.
var header, inBlock []Word

func init() { // the readers need the words
	header = []Word{
		{Name: "procedure", read: (*parser).readProcedure, called: []string{"title", "name"}, Forms: []Form{
			{"`procedure \"TITLE\"`", `the title; must be there`},
		}},
		{Name: "step", read: (*parser).readStep, opens: true, Forms: []Form{
			{"`step \"TITLE\" [tries N [every T]] [within T] [needed] [always] [uses NAME]` ... `end`", "statements that pass or fail together; see *Steps*"},
		}},
		{Name: "port", read: (*parser).readPort, Forms: []Form{
			{"`port NAME` or `port NAME: WORD, WORD...`", `a port, and how it is spoken to`},
		}},
		{Name: "input", read: (*parser).readInput, Forms: []Form{
			{"`input NAME: TYPE [LOW..HIGH] [= DEFAULT] [\"MEANING\"]`", "a value given with `--set NAME=VALUE` or `--set-file`; types `int`, `num`, `text`; without a default it must be given"},
			{"`input NAME ... from pool \"POOL\"`, `secret NAME from pool \"POOL\"`", `a value that the ledger gives out once; see [units.md](units.md)`},
		}},
		{Name: "secret", read: (*parser).readSecret, Forms: []Form{
			{"`secret NAME [\"MEANING\"]`", "a value from the environment (`UPARROT_` and the name in capitals), from `--secret-file NAME=FILE`, or asked for without echo; shown and recorded as `[secret]`"},
		}},
		{Name: "let", read: (*parser).readLet, Forms: []Form{
			{"`let NAME = EXPRESSION`", `a value`},
		}},
		{Name: "about", read: (*parser).readAbout, called: []string{"description"}, Forms: []Form{
			{"`about \"SENTENCE\"`", `what it is for`},
		}},
		{Name: "include", read: (*parser).readInclude, called: []string{"import", "require"}, Forms: []Form{
			{"`include \"FILE\"`", `the lines of another file, as if they stood here; a path from the folder of this file`},
		}},
		{Name: "routine", read: (*parser).readRoutine, opens: true, called: []string{"function", "def", "sub", "macro"}, Forms: []Form{
			{"`routine NAME(A, B)` ... `end`", `statements to be done from several places`},
		}},
		{Name: "answers", read: (*parser).readAnswers, Forms: []Form{
			{"`answers within 2s`", `how long an answer may take where a line says nothing else; 2 s unless given`},
		}},
		{Name: "keep", read: (*parser).readKeepGoing, Forms: []Form{
			{"`keep going`", `a failed step does not stop the others, nor a limit that is broken its step: that fails at its end`},
		}},
	}
	inBlock = []Word{
		{Name: "say", read: (*parser).readSay, text: true, called: []string{"send", "write", "transmit", "tx", "put", "type"}, Forms: []Form{
			{"`say PORT: TEXT`", `says the text and the port's line ending; without a text the line ending alone, as Enter`},
			{"`say PORT without answer: TEXT`", `... to which nothing is answered, such as Enter in a menu (` + "`say PORT without answer:`" + `): no end is waited for; a refusal fails the step all the same`},
			{"`say PORT answer later: TEXT`", "... whose answer may end after the step, as that of a dial: the next `say` at the port waits for the end, and the last step for all that is still owed"},
			{"`say PORT restarts [within T]: TEXT`", "... which has the module start again, or ends a session: it must be seen to, by the banner of the phrasebook, by the prompt for a name (`login`), or by the port going away and coming back; a prompt for commands alone proves nothing. Then its prompt is waited for. 60 s at most unless given"},
			{"`say bytes PORT: TEXT`", `says exactly these bytes; only where they end with the port's line ending an answer is waited for`},
			{"`say packet PORT: NAME(FIELD = EXPRESSION, ...)`", `says a packet that the phrasebook describes; what it makes of other fields, such as a length or a sum, is worked out`},
		}},
		{Name: "hear", read: (*parser).readHearing, text: true, called: []string{"read", "receive", "match", "recv", "rx", "listen"}, Forms: []Form{
			{"`hear PORT [within T]: TEXT`", `a whole line that matches must come within the time`},
			{"`hear later PORT [within T]: TEXT`", `... which may come after the end of the answer; see *Exchanges*`},
			{"`hear earlier PORT [within T]: TEXT`, `hear earlier bytes PORT ...`", `... which may be older than what was done last; see *Order of time*`},
			{"`hear next PORT [within T]: TEXT`", `the very next line must match`},
			{"`hear PORT [within T] took NAME: TEXT`", `... and how long it took, in seconds: from the last say at that port in this try of the step to its last byte, or from the beginning of the try; what had come before that fails the step`},
			{"`hear bytes PORT [within T]: TEXT`", `these bytes must come, anywhere, also without a line end`},
			{"`hear packet PORT [within T]: NAME`, `... NAME(FIELD = EXPRESSION, ...)`", `such a packet must come, with these fields; each of its fields is a value then. A field that is not what the phrasebook makes of the others fails the step`},
		}},
		{Name: "check", read: (*parser).readCheck, called: []string{"assert", "verify", "ensure", "test"}, Forms: []Form{
			{"`check EXPRESSION [\"WHY\"]`", "fails the step if false, and shows the values. `{expression}` in WHY is its value"},
		}},
		{Name: "limit", read: (*parser).readLimit, Forms: []Form{
			{"`limit EXPRESSION in LOW..HIGH [UNIT] [\"WHAT\"]`", "a measurement with limits, a row of its own in the result; one side may be open, both may be expressions. A unit is one word that begins with a letter, `%`, `°` or `µ`; a range with blanks stands in parentheses. `{expression}` in UNIT and WHAT is its value: so one routine may measure volts and degrees"},
		}},
		{Name: "note", read: (*parser).readNote, called: []string{"print", "display", "record"}, Forms: []Form{
			{"`note EXPRESSION [in UNIT] [\"WHAT\"]`", `keeps a value without limits, a number or a text of 1000 bytes at most, as a row of every table, report and the ledger; secrets are refused. Values in UNIT and WHAT as with limit`},
		}},
		{Name: "pause", read: (*parser).readPause, called: []string{"wait", "sleep", "delay"}, Forms: []Form{
			{"`pause T`", `waits a fixed time`},
		}},
		{Name: "set", read: (*parser).readSet, Forms: []Form{
			{"`set PORT NAME = EXPRESSION`", `writes a setting, and reads it back where that shows at once; see [settings.md](settings.md)`},
		}},
		{Name: "get", read: (*parser).readGet, Forms: []Form{
			{"`get PORT NAME as VALUE`", `reads a setting, or what the module says that it is, as the phrasebook says how; a name with blanks stands in quotes`},
		}},
		{Name: "not", read: (*parser).readNot, text: true, Forms: []Form{
			{"`not hear PORT for T: TEXT`, `not hear bytes PORT for T: TEXT`, `not hear packet PORT for T: NAME`", `no such line, bytes or packet may come during the time, nor be in the inbox already`},
		}},
		{Name: "any", read: (*parser).readAny, opens: true, called: []string{"switch", "select"}, example: "any, then case hear radio: OK", table: choosing, Forms: []Form{
			{"`any [within T]`, `case hear ...`, `case hear bytes ...`, `case hear packet ...`, `case nothing`, `end`", "whichever comes first decides and its lines follow; of what is there already, the earliest; `case nothing` if none has come in time"},
		}},
		{Name: "case", read: (*parser).readCase, part: true, text: true, table: choosing, Forms: []Form{
			{"`case hear PORT: TEXT`, `case nothing`", "one of the things that `any` waits for, and what is done then"},
		}},
		{Name: "all", read: (*parser).readAll, opens: true, table: choosing, Forms: []Form{
			{"`all [within T]`, lines `hear ...`, `end`", `all of these in any order, at any port; one line answers one of them only`},
		}},
		{Name: "if", read: (*parser).readIf, opens: true, table: choosing, Forms: []Form{
			{"`if CONDITION` ... `else if CONDITION` ... `else` ... `end`", `the first that is true`},
		}},
		{Name: "else", read: (*parser).readElse, part: true, called: []string{"elif", "elseif"}, whole: "else if", table: choosing, Forms: []Form{
			{"`else [if CONDITION]`", `what is done otherwise`},
		}},
		{Name: "repeat", read: (*parser).readRepeat, opens: true, called: []string{"loop", "while"}, example: "repeat 3 times, or repeat for 10m every 1s", table: choosing, Forms: []Form{
			{"`repeat [N times] [for T] [every T]` ... `end`", "so many times, or for so long: no time begins later; `every` counts from the beginning of one to that of the next, and what falls out because one took longer is told. N may be an expression, T one of seconds, or a time such as 10m"},
		}},
		{Name: "for", read: (*parser).readFor, opens: true, called: []string{"foreach"}, table: choosing, Forms: []Form{
			{"`for NAME in LIST` ... `end`", "for each element: `[1, 6, 11]`, `1..8`, `split(text, \",\")`"},
		}},
		{Name: "do", read: (*parser).readDo, called: []string{"call", "gosub"}, table: choosing, Forms: []Form{
			{"`do NAME(X, Y)`", `performs a routine that stands above`},
		}},
		{Name: "let", read: (*parser).readLet, called: []string{"var", "const", "local"}, Forms: []Form{
			{"`let NAME = EXPRESSION`", `a value`},
		}},
		{Name: "collect", read: (*parser).readCollect, text: true, Forms: []Form{
			{"`collect NAME from PORT until prompt [within T]`", `gathers lines into one value, up to the prompt; 30 s at most unless given`},
			{"`collect NAME from PORT until quiet T [within T]`", `... until nothing has come for so long`},
			{"`collect NAME from PORT until [within T]: TEXT`", `... up to a line that matches, which belongs to the value`},
			{"`collect NAME from PORT until bytes [within T]: TEXT`", `... up to these bytes, wherever they stand, which belong to the value`},
		}},
		{Name: "keep", read: (*parser).readKeep, called: []string{"save"}, example: `keep NAME as "FILE"`, Forms: []Form{
			{"`keep NAME as \"FILE\"`", "keeps a value as a file, under a name that is free, in the folder of `--record`, or the current one; `{expression}` in the name is its value. What a `collect` of the step had gathered when it failed is kept too, marked as cut short"},
		}},
		{Name: "ask", read: (*parser).readAsk, called: []string{"prompt"}, whole: "ask operator", Forms: []Form{
			{"`ask operator \"QUESTION\"`", `yes, or the step fails`},
			{"`ask operator \"QUESTION\" as NAME[: TYPE [LOW..HIGH]]`", `asks for a value until it fits`},
		}},
		{Name: "tell", read: (*parser).readTell, called: []string{"message"}, whole: "tell operator", Forms: []Form{
			{"`tell operator \"TEXT\"`", `says what to do, and goes on`},
		}},
		{Name: "power", read: (*parser).readPower, called: []string{"reboot"}, example: "power radio cycle", Forms: []Form{
			{"`power PORT on`, `off`, `cycle [for T]`", `gives the module power or takes it away: by the [switch](bench.md) that the bench names for the port, or else the operator is told to, and asked. What was switched off is on again at the end, however that comes`},
		}},
		{Name: "line", read: (*parser).readLine, called: []string{"baud"}, example: "line radio speed 57600", Forms: []Form{
			{"`line PORT CHANGE...`", "changes the port: `speed N` or `speed {EXPRESSION}`, `frame 7E1`, `ending cr`, `dialect lines`, `dtr on`, `rts off`, `break 250ms`, `reopen [within T]`"},
		}},
		{Name: "link", read: (*parser).readLink, Forms: []Form{
			{"`link A B count N every T [size BYTES] [both] [loss <= 2%] [p95 <= 150ms]`", `a link test with its limits; see [link.md](link.md)`},
		}},
		{Name: "watch", read: (*parser).readWatch, opens: true, Forms: []Form{
			{"`watch [N times] [for T] [broken <= P%] [reopen]`, lines `poll`, `reading`, then `end`", `reads values as they come, or polled; so large a share of them may be of no use; and a port that goes away is waited for. See *Watching*`},
		}},
		{Name: "poll", read: (*parser).readPoll, text: true, table: watching, Forms: []Form{
			{"`poll PORT every T: TEXT`, `poll bytes PORT ...`, `poll packet PORT ...`", `says this at a pace; not while the answer before goes on`},
		}},
		{Name: "reading", read: (*parser).readReading, part: true, text: true, table: watching, Forms: []Form{
			{"`reading PORT [within T]: TEXT`, `reading bytes PORT ...`, `reading packet PORT ...`", "what is heard; of several the first that a line matches. With `within` one must follow on the other in that time, which is a measurement"},
		}},
		{Name: "until", read: (*parser).readUntil, table: watching, Forms: []Form{
			{"`until CONDITION`", `below a reading: ends the watch when it is true`},
		}},
		{Name: "rows", read: (*parser).readRows, opens: true, text: true, Forms: []Form{
			{"`rows PORT until prompt`, `... until quiet T`, `... until [within T]: TEXT`, then `row: TEXT`, `end`", "judges a table that one answer gives: its lines are gathered as by `collect`, and the `check`, `limit`, `note` and `let` lines between are performed for each that is as `row` says. A bad row stops nothing; the step fails at the end with all of them, or where no line is a row"},
		}},
		{Name: "row", read: (*parser).readRow, text: true, Forms: []Form{
			{"`row: TEXT`", `how a row of it looks`},
		}},
		{Name: "quiet", read: (*parser).readQuiet, Forms: []Form{
			{"`quiet PORT T [within T]`", `waits until nothing has come for so long, counted from the statement at the earliest; 10 s at most unless given`},
		}},
		{Name: "identity", read: (*parser).readIdentity, Forms: []Form{
			{"`identity EXPRESSION`", "the module itself names the unit: the run is filed under that. Where `--unit` or the unit table names another, that one is `untested` (status 4), and nothing more is said: steps marked `always` are performed only where they say no input or drawn value of the unit that is meant. Where that unit has passed the same procedure today it is asked about, and told where nobody sits at a terminal"},
		}},
		{Name: "settings", read: (*parser).readMatch, Forms: []Form{
			{"`settings PORT match \"FILE\"`", "holds the module's settings against a file of `uparrot settings read`, or of `NAME = VALUE` lines: all of them, and the step fails with all that are otherwise. What must differ from module to module is left out, and told"},
		}},
		{Name: "reach", read: (*parser).readReach, Forms: []Form{
			{"`reach \"HOST\" tcp PORT [within T]`, `reach \"HOST\" ping [within T]`", `something in the network takes a connection, or answers a ping; 10 s at most unless given`},
		}},
		{Name: "log", read: (*parser).readLogIn, called: []string{"login"}, whole: "log in", example: `log in console as "ops" with SECRET`, Forms: []Form{
			{"`log in PORT as EXPRESSION [with SECRET] [within T]`", `logs in: waits for the prompt for a name, which it asks for by Enter, says the name and the password, and waits for the prompt for commands; 30 s at most unless given`},
			{"`log in PORT with SECRET [within T]`", `... where only a password is asked for, as for a second level`},
			{"`log in PORT ... unless open`", `... or goes on with a session that is open already, whoever's it is; that is told`},
		}},
		{Name: "fail", read: (*parser).readFail, called: []string{"abort", "error", "exit"}, Forms: []Form{
			{"`fail \"WHY\"`", `ends the step at once as failed; no other try follows`},
		}},
		{Name: "skip", read: (*parser).readSkip, Forms: []Form{
			{"`skip \"WHY\"`", `ends the step at once as skipped, since it has no place here, such as with this variant; no other try follows. A run with it may pass`},
		}},
		{Name: "untested", read: (*parser).readUntested, called: []string{"todo", "defer", "postpone"}, Forms: []Form{
			{"`untested \"WHY\"`", "ends the step at once as untested: it is still to be done. The others go on, the run is `untested` at best (status 4), and `--repeat-failed` does it then"},
		}},
		{Name: "end", read: (*parser).readEnd, Forms: []Form{
			{"`end`", `closes the block`},
		}},
	}
}

// Header are the words of the header, those that are written most first.
func Header() []Word { return slices.Clone(header) }

// Statements are the words of a block, those that are written most first.
func Statements() []Word { return slices.Clone(inBlock) }

// Words are the words with which lines begin.
func Words() []string {
	var all []string
	for _, w := range slices.Concat(header, inBlock) {
		all = append(all, w.Name)
	}
	return slices.Compact(slices.Sorted(slices.Values(all)))
}

// find is the word of a name; nil if there is none.
func find(words []Word, name string) *Word {
	i := slices.IndexFunc(words, func(w Word) bool { return w.Name == name })
	if i < 0 {
		return nil
	}
	return &words[i]
}

// wordOf is the word of a name, wherever it stands; one without a name if there is none.
func wordOf(name string) Word {
	for _, words := range [][]Word{inBlock, header} {
		if w := find(words, name); w != nil {
			return *w
		}
	}
	return Word{}
}

// names are the names of words.
func names(words []Word) (all []string) {
	for _, w := range words {
		all = append(all, w.Name)
	}
	return all
}

// Form is how a line with the word is written, as plain text.
func (w Word) Form() string { return unmarked.Replace(w.Forms[0].Line) }

// Does is what such a line does, as plain text.
func (w Word) Does() string { return unmarked.Replace(w.Forms[0].Does) }

var unmarked = strings.NewReplacer("`", "", "**", "")

// called is the word that another language calls by a name, with the words that belong to it; nil if there
// is none.
func called(name string) (w *Word, whole string) {
	for _, words := range [][]Word{inBlock, header} {
		for i, w := range words {
			if slices.Contains(w.called, strings.ToLower(name)) {
				return &words[i], cmp.Or(w.whole, w.Name)
			}
		}
	}
	return nil, ""
}
