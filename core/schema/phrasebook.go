package schema

// setup says how a port is spoken to.
var setup = []Key{
	{Name: "dialect", Form: Text, About: "how commands and answers follow each other", Words: []string{"at", "console", "lines", "bytes"}},
	{Name: "speed", Form: Whole, About: "of the line, in baud"},
	{Name: "frame", Form: Text, About: "data bits, parity N E O M S, stop bits, such as \"8N1\""},
	{Name: "ending", Form: Text, About: "what follows a said line", Words: []string{"crlf", "cr", "lf", "none"}},
	{Name: "flow", Form: Text, About: "flow control", Words: []string{"none", "rtscts", "xonxoff"}},
	{Name: "gap", Form: Time, About: "the silence between two packets of a port that has no lines"},
	{Name: "interrupt", Form: Text, About: "what stops a module while it starts, at its prompt"},
	{Name: "prompt", Form: Phrase, About: "what stands at the end of what has come when a command is waited for; heard text"},
	{Name: "final", Form: Phrase, About: "a line that ends an answer; heard text"},
	{Name: "refusal", Form: Phrase, About: "a line that says no; heard text"},
	{Name: "pager", Form: Phrase, About: "what a module shows when it waits within an answer to be told to go on"},
	{Name: "pager_answer", Form: Text, About: "what tells it so, a blank if nothing is said"},
	{Name: "notice", Form: Phrase, About: "a line that the module sends by itself; heard text"},
	{Name: "login", Form: Phrase, About: "the prompt for a name"},
	{Name: "password", Form: Phrase, About: "the prompt for a password"},
	{Name: "denied", Form: Phrase, About: "a line that says that name or password are wrong"},
}

// asked is how something that a module tells is read.
var asked = []Key{
	{Name: "name", Form: Text, About: "by which procedures and commands call it"},
	{Name: "meaning", Form: Text, About: "what it is, in a few words"},
	{Name: "read", Form: Text, About: "said to read it"},
	{Name: "answer", Form: Text, About: "heard then, with a capture named value: ~CHANNEL: {value:int}"},
	{Name: "read_packet", Form: Text, About: "in place of read, of modules that speak in packets: NAME(FIELD = EXPRESSION)"},
	{Name: "answer_packet", Form: Text, About: "in place of answer"},
	{Name: "value", Form: Text, About: "what of the packet's fields the value is; an expression"},
}

// Phrasebook is what a phrasebook may hold.
var Phrasebook = Table{About: "what one module family understands and answers", Keys: []Key{
	{Name: "family", Form: Text, About: "the name of the family"},
	{Name: "about", Form: Text, About: "what it is, in a sentence"},
	{Name: "dialect", Form: Text, About: "how commands and answers follow each other", Words: []string{"at", "console", "lines", "bytes"}},
	{Name: "complete", Form: Truth, About: "what stands here is all that the module understands, so that any other command is a mistake"},
	{Name: "echo", Form: Truth, About: "the module repeats what is said to it"},
	{Name: "line", Form: One, About: "how it is spoken to", Of: &Table{Keys: setup}},
	{Name: "banner", Form: One, About: "the line that tells that it has started", Of: &Table{Keys: []Key{
		{Name: "heard", Form: Text, About: "the line; heard text"},
		{Name: "within", Form: Time, About: "how long after power-up or a restart it comes"},
	}}},
	{Name: "final", Form: One, About: "what ends an answer when all went well", Of: &Table{Keys: []Key{{Name: "heard", Form: Texts, About: "lines; heard text"}}}},
	{Name: "refusal", Form: One, About: "how it says no", Of: &Table{Keys: []Key{
		{Name: "heard", Form: Texts, About: "lines; heard text, with {number} for what meaning explains"},
		{Name: "meaning", Form: TextBy, About: "what each number means"},
		{Name: "unknown", Form: Text, About: "the number for a command that there is not"},
		{Name: "range", Form: Text, About: "the number for a value that is out of range"},
	}}},
	{Name: "notice", Form: Many, About: "a line that the module sends by itself", Of: &Table{Keys: []Key{
		{Name: "name", Form: Text, About: "what it is called"},
		{Name: "heard", Form: Text, About: "the line; heard text"},
		{Name: "meaning", Form: Text, About: "what it tells"},
		{Name: "every", Form: Time, About: "how often a stand-in sends it; never unless given"},
	}}},
	{Name: "command", Form: Many, About: "something that can be said beside what reads and writes settings", Of: &Table{Keys: []Key{
		{Name: "say", Form: Text, About: "what is said, with {...} for what may vary"},
		{Name: "meaning", Form: Text, About: "what it does"},
		{Name: "answer", Form: Texts, About: "the lines that come before any final result; heard text"},
		{Name: "restart", Form: Truth, About: "the module starts again then"},
		{Name: "carries", Form: Truth, About: "from then on the line carries plain data"},
		{Name: "follows", Form: Text, About: "the prompt after which {length} bytes are to be said"},
	}}},
	{Name: "setting", Form: Many, About: "one value that the module keeps", Of: &Table{Keys: append(asked[:len(asked):len(asked)], []Key{
		{Name: "type", Form: Text, About: "of the value", Words: []string{"int", "num", "text"}},
		{Name: "range", Form: Pair, About: "lowest and highest value; of a text, the number of characters"},
		{Name: "unit", Form: Text, About: "of the value"},
		{Name: "write", Form: Text, About: "said to write it, with {value}"},
		{Name: "written", Form: Text, About: "heard when it has been written, with a capture named value"},
		{Name: "write_packet", Form: Text, About: "in place of write, with {value}"},
		{Name: "written_packet", Form: Text, About: "in place of written, with {value}"},
		{Name: "default", Form: Text, About: "as delivered"},
		{Name: "effect", Form: Text, About: "when it takes effect", Words: []string{"at once", "restart"}},
		{Name: "pair", Form: Text, About: "what two modules of a pair need", Words: []string{"equal", "different"}},
		{Name: "after", Form: Texts, About: "settings that must be written before it"},
		{Name: "secret", Form: Truth, About: "its value is shown nowhere"},
		{Name: "firmware", Form: Text, About: "the first that has it"},
	}...)}},
	{Name: "identity", Form: Many, About: "what a module tells of itself, such as its serial number", Of: &Table{Keys: asked}},
	{Name: "setup", Form: One, About: "what must be done round reading and writing settings: statements, with {port} for the port", Of: &Table{Keys: []Key{
		{Name: "enter", Form: Texts, About: "before settings are read or written"},
		{Name: "leave", Form: Texts, About: "after, however that ends"},
		{Name: "save", Form: Texts, About: "once they are written, to keep them"},
		{Name: "restart", Form: Texts, About: "has it start again, and waits until it has"},
	}}},
	{Name: "switch", Form: One, About: "how a board switches something, such as the power of another module: statements, with {port} and {switch}", Of: &Table{Keys: []Key{
		{Name: "names", Form: Texts, About: "its switches, such as relay 1"},
		{Name: "on", Form: Texts, About: "switches on"},
		{Name: "off", Form: Texts, About: "switches off"},
	}}},
	{Name: "packet", Form: Many, About: "bytes that a module sends or takes, and what they hold", Of: &Table{Keys: []Key{
		{Name: "name", Form: Text, About: "by which procedures say and hear it"},
		{Name: "meaning", Form: Text, About: "what it is"},
		{Name: "bytes", Form: Text, About: "its bytes and fields, such as {hex A7}{speed:u16}{sum:u8}"},
		{Name: "made", Form: TextBy, About: "fields that are made of others, by expressions; before is the bytes before the field"},
	}}},
	{Name: "reading", Form: Many, About: "something that a module tells again and again", Of: &Table{Keys: []Key{
		{Name: "name", Form: Text, About: "what it is called"},
		{Name: "meaning", Form: Text, About: "what it tells"},
		{Name: "heard", Form: Text, About: "the line; heard text"},
		{Name: "packet", Form: Text, About: "in place of heard, the name of a packet"},
		{Name: "say", Form: Text, About: "what asks for it; leave it out if it comes by itself"},
		{Name: "every", Form: Time, About: "how often that is said, 1 s unless given"},
		{Name: "start", Form: Text, About: "what has it come, said once"},
		{Name: "stop", Form: Text, About: "what ends that"},
		{Name: "within", Form: Time, About: "one must follow on another in that time"},
		{Name: "values", Form: TextBy, About: "expressions of what was heard, by name"},
		{Name: "units", Form: TextBy, About: "the unit of each"},
		{Name: "limits", Form: TextBy, About: "LOW..HIGH of each"},
	}}},
	{Name: "carrier", Form: One, About: "how a payload travels through the module to another", Of: &Table{Keys: []Key{
		{Name: "send", Form: Text, About: "said, with {payload}, and {to} and {length} where the module wants them"},
		{Name: "arrives", Form: Text, About: "heard at the other module, with {payload}; {from}, {length}, {strength} and {snr} where it tells them"},
		{Name: "address", Form: Text, About: "the setting that holds a module's own address"},
		{Name: "broadcast", Form: Text, About: "the address that means everyone"},
		{Name: "greatest", Form: Whole, About: "bytes in a payload"},
		{Name: "allowed", Form: Text, About: "bytes that a payload may hold"},
	}}},
}}

// Bench is what a bench may hold.
var Bench = Table{About: "which ports there are, what is at them, and the air between", Keys: []Key{
	{Name: "port", Form: Named, About: "a port, by the name that procedures call", Of: &Table{Keys: append([]Key{
		{Name: "at", Form: Text, About: "where it is: a device, a stable path below /dev/serial, tcp://HOST:PORT or rfc2217://HOST:PORT"},
		{Name: "phrasebook", Form: Text, About: "the file of the module's family, from the folder of the bench"},
		{Name: "hears", Form: Texts, About: "the other ports that must hear it, for link map"},
		{Name: "power", Form: Text, About: "what switches its power, such as \"relay 3 of gates\""},
		{Name: "power_off", Form: Time, About: "how long a cycle is without power, 1 s unless given"},
		{Name: "standin", Form: One, About: "a simulated module in the place of a real one", Of: &Table{Keys: []Key{
			{Name: "family", Form: Text, About: "a family that is built in; without one the phrasebook makes it"},
			{Name: "speed", Form: Whole, About: "its own, where it differs from what is said of it, in baud"},
			{Name: "frame", Form: Text, About: "its own, such as \"8N1\""},
			{Name: "place", Form: Number, About: "metres along a line, for strength by distance"},
			{Name: "settings", Form: AnyBy, About: "what differs from the settings as delivered"},
		}}},
	}, setup...)}},
	{Name: "air", Form: One, About: "what happens to messages between simulated radios", Of: &Table{Keys: []Key{
		{Name: "seed", Form: Whole, About: "of all that is drawn"},
		{Name: "loss", Form: Share, About: "messages that do not arrive"},
		{Name: "damage", Form: Share, About: "messages that arrive with bytes altered"},
		{Name: "duplicate", Form: Share, About: "messages that arrive twice"},
		{Name: "reorder", Form: Share, About: "messages that the next overtakes"},
		{Name: "delay", Form: Time, About: "least time from radio to radio"},
		{Name: "spread", Form: Time, About: "up to this much is added"},
		{Name: "enter", Form: Share, About: "how likely a burst of losses begins with a message"},
		{Name: "leave", Form: Share, About: "how likely it ends with one"},
		{Name: "rate", Form: Number, About: "bits a second in one direction, of payload"},
		{Name: "preamble", Form: Time, About: "stands before each message"},
		{Name: "buffer", Form: Whole, About: "bytes of messages that wait for the air"},
		{Name: "walk", Form: Number, About: "how fast the distance grows, in metres a second"},
	}}},
	{Name: "slot", Form: Named, About: "a place for a module: which port of the bench stands for each of a procedure's"},
	{Name: "shared", Form: NumBy, About: "what slots share, and how many may use it at once"},
}}

// Units is a row of a table of units as JSON Lines; its other keys are inputs of the procedure.
var Units = Table{About: "one unit: its name, where it is, and a value for each input of the procedure", Keys: []Key{
	{Name: "unit", Form: Text, About: "the unit's name"},
	{Name: "port", Form: Text, About: "the bench's port where it is"},
}}
