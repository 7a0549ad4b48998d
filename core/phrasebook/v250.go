package phrasebook

import (
	"strings"

	"uparrot/core/pattern"
)

// The final results of ITU-T V.250 (6.3.1) and 3GPP TS 27.007 (9.2), TS 27.005
// (3.2.5): those that say no, then those that say yes.
var (
	noResults  = []string{"ERROR", "+CME ERROR: ...", "+CMS ERROR: ...", "NO CARRIER", "BUSY", "NO ANSWER", "NO DIALTONE"}
	yesResults = []string{"OK", "CONNECT", "CONNECT ..."}
)

// V250Refusals are the final results that say no in dialect AT.
func V250Refusals() []*pattern.Pattern { return patterns(noResults) }

// V250Successes are the final results that say yes in dialect AT.
func V250Successes() []*pattern.Pattern { return patterns(yesResults) }

func patterns(list []string) []*pattern.Pattern {
	var all []*pattern.Pattern
	for _, s := range list {
		all = append(all, pattern.Must(s))
	}
	return all
}

// numbers are the final results of V.250 (table 1) as numbers, which a module sends
// after ATV0. 2 is RING, which ends no answer.
var numbers = map[string]string{"0": "OK", "1": "CONNECT", "3": "NO CARRIER", "4": "ERROR", "6": "NO DIALTONE", "7": "BUSY", "8": "NO ANSWER"}

// V250Number is the final result of V.250 that a number stands for, and whether it
// says no; "" if it stands for none.
func V250Number(number string) (result string, no bool) {
	result = numbers[number]
	return result, number > "1" && result != ""
}

// Results is what a command line of V.250 makes of the results that follow it. The
// zero value leaves them as they are.
type Results struct {
	Form   ResultForm
	Quiet  QuietResults
	NoEcho bool // command lines are not repeated from here on: ATE0
}

// ResultForm is how final results are written.
type ResultForm int

// The forms of results.
const (
	FormNotSaid ResultForm = iota
	FormUnknown            // as the module has stored it
	Numbers                // as a number, ended by CR alone: ATV0
	Words                  // as a word on a line of its own: ATV1
)

// QuietResults is whether results are sent at all.
type QuietResults int

// What a line may say of that.
const (
	QuietNotSaid QuietResults = iota
	Suppressed                // none is sent: ATQ1
	Sent                      // they are sent: ATQ0, or what a reset restores
)

// ReadResults reads a command line: AT, then basic commands (a letter, or & and a
// letter, and a number that is 0 if it is left out), S-parameters, and extended
// commands with a semicolon between them (V.250, 5.2 to 5.4). The last word counts.
func ReadResults(line string) (r Results) {
	line = strings.ToUpper(strings.TrimSpace(line))
	rest, ok := strings.CutPrefix(line, "AT")
	for ok && rest != "" {
		name, value := rest[:1], ""
		switch rest = rest[1:]; {
		case name == " ":
			continue
		case name == "+": // an extended command, up to the semicolon
			_, rest, _ = strings.Cut(rest, ";")
			continue
		case name == "D": // what is dialled
			return r
		case name == "&" && rest != "":
			name, rest = name+rest[:1], rest[1:]
		case name < "A" || name > "Z":
			return r // no command of V.250: what follows cannot be read
		}
		rest = strings.TrimLeft(rest, " ")
		n := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		value, rest = rest[:n], rest[n:]
		if name == "S" { // a parameter, read or set
			rest = strings.TrimLeft(strings.TrimLeft(rest, "?="), "0123456789")
			continue
		}
		on := strings.Trim(value, "0") != ""
		switch name {
		case "V":
			r.Form = map[bool]ResultForm{false: Numbers, true: Words}[on]
		case "Q":
			r.Quiet = map[bool]QuietResults{false: Sent, true: Suppressed}[on]
		case "E":
			r.NoEcho = !on
		case "Z", "&F":
			r = Results{Form: FormUnknown, Quiet: Sent}
		}
	}
	return r
}
