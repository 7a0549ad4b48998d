package draft

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/record"
)

// Teller says a command to a module and is the lines of its answer, without the echo and the result that
// ends it; false if the module refused, or nothing came. Secret is that the answer may tell one, by the command's
// name or what a guide says of it.
type Teller func(ctx context.Context, said string, secret bool) (lines []string, ok bool, err error)

// answerTime is how long an answer is waited for.
const answerTime = 3 * time.Second

// searchTime is how long one is waited for that a person has said yes to.
const searchTime = 3 * time.Minute

// Speak speaks with the module at an open port. What may be a secret is kept out of the events: where no answer came
// in time, all that comes after it is, since the answer may be among it.
func Speak(d *dialog.Dialog, events *record.Stream, port string) Teller {
	late := false
	return func(ctx context.Context, said string, secret bool) ([]string, bool, error) {
		if secret {
			events.ConcealHeard(port, true)
		}
		defer func() { events.ConcealHeard(port, late) }()
		within := answerTime
		if acts[strings.TrimSuffix(strings.TrimPrefix(said, "AT"), "=?")] != "" {
			within = searchTime
		}
		d.PassAll()
		if _, err := d.Say(ctx, said, within); err != nil {
			return nil, false, err
		}
		how, err := d.Answered(ctx, dialog.Answer{Within: within})
		if err != nil || !how.Came() {
			late = late || secret
			return nil, false, err
		}
		came, err := d.Lines(ctx, nil)
		if _, no := errors.AsType[*dialog.Refused](err); no {
			return nil, false, nil
		}
		var lines []string
		for _, l := range came {
			if text := strings.TrimSpace(string(l.Text)); text != "" && text != "OK" && text != said {
				lines = append(lines, text)
				if secret {
					hideValues(events, text)
				}
			}
		}
		return lines, err == nil, err
	}
}

// hideValues keeps the values in a line of an answer out of what is told from now on.
func hideValues(events *record.Stream, line string) {
	_, values, is := strings.Cut(line, ":")
	if !is {
		values = line
	}
	for v := range strings.SplitSeq(values, ",") {
		events.Hide(strings.Trim(strings.TrimSpace(v), `"`))
	}
}

// identities are the commands by which a module tells what it is (3GPP TS 27.007, 5.1 to 5.4, and ITU-T
// V.250, 6.1.4 to 6.1.7).
var identities = []struct{ name, meaning, cellular, plain string }{
	{"maker", "who made it", "+CGMI", "+GMI"}, {"model", "", "+CGMM", "+GMM"}, {"firmware", "its revision", "+CGMR", "+GMR"}, {"serial number", "", "+CGSN", "+GSN"},
}

// standard are names of settings that the standards have: 3GPP TS 27.007 and 27.005, ITU-T V.250.
var standard = map[string]string{
	"+CMEE": "error form", "+CREG": "network registration", "+CPIN": "PIN", "+CSQ": "signal quality", "+COPS": "operator selection", "+CMGF": "message format", "+CMGS": "send message",
	"+IPR": "line speed", "+CFUN": "functionality", "+CSCS": "character set", "+CGATT": "packet attachment", "+CLIP": "calling line", "+IFC": "flow control", "+ICF": "character framing",
}

// acts are test commands that do something, and what.
var acts = map[string]string{"+COPS": "search for networks, which can take minutes"}

// Module asks a module in dialect at what there is to say to it: the list of its commands (3GPP TS 27.007,
// 8.37), and of each what it is set to and what it takes (V.250, 5.4.4). Nothing is written. What a test
// would do besides is asked first. Further are commands to ask about that the list may not have.
func Module(ctx context.Context, tell Teller, further []Entry, ask Ask) (all []Entry, err error) {
	awake := false
	for range 3 { // the first command after power-up may be lost
		if _, awake, err = tell(ctx, "AT", false); err != nil || awake {
			break
		}
	}
	if err != nil || !awake {
		return nil, errors.Join(errors.New("it does not answer AT: only modules in dialect at can be asked, and at their speed (uparrot probe finds that)"), err)
	}
	listed, _, err := tell(ctx, "AT+CLAC", false)
	if err != nil {
		return nil, err
	}
	var names []string
	secret := map[string]bool{}
	for _, l := range listed {
		for _, n := range strings.FieldsFunc(l, func(r rune) bool { return r == ',' || r == ' ' || r == '\r' }) {
			if n = strings.TrimPrefix(strings.TrimPrefix(n, "+CLAC:"), "AT"); strings.HasPrefix(n, "+") && !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
	}
	for _, e := range further {
		shape, _ := holes(e.Say)
		n := strings.TrimPrefix(stem(shape), "AT")
		if len(n) > 1 && !isLetterByte(n[0]) && !slices.Contains(names, n) {
			names = append(names, n)
		}
		secret[n] = secret[n] || soundsSecret(e.Name, e.Meaning, e.Say)
	}
	for _, id := range identities {
		for _, n := range []string{id.cellular, id.plain} {
			lines, ok, err := tell(ctx, "AT"+n, false)
			if err != nil {
				return nil, err
			}
			if ok && len(lines) == 1 {
				all = append(all, Entry{Name: id.name, Meaning: id.meaning, Read: "AT" + n, Answer: "<value>"})
				break
			}
		}
	}
	for _, n := range names {
		if n == "+CLAC" || slices.ContainsFunc(identities, func(i struct{ name, meaning, cellular, plain string }) bool { return n == i.cellular || n == i.plain }) {
			continue
		}
		e, err := asked(ctx, tell, n, secret[n] || soundsSecret(n, standard[n]), ask)
		if err != nil {
			return nil, err
		}
		all = append(all, e...)
	}
	return all, nil
}

func isLetterByte(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// asked is what a module tells of one command.
func asked(ctx context.Context, tell Teller, n string, secret bool, ask Ask) ([]Entry, error) {
	is, readable, err := tell(ctx, "AT"+n+"?", secret)
	if err != nil {
		return nil, err
	}
	takes, tested := "", false
	if does := acts[n]; does != "" {
		answer, err := ask(ctx, Question{fmt.Sprintf("AT%s=? has the module %s. Ask it, yes or no?", n, does), "no", yesOrNo})
		if err != nil {
			return nil, err
		}
		if answer == "no" {
			return []Entry{{Say: "AT" + n + "?", Meaning: standard[n], Answer: vary(n, is)}}, nil
		}
	}
	lines, tested, err := tell(ctx, "AT"+n+"=?", false)
	if err != nil {
		return nil, err
	}
	for _, l := range lines {
		if after, ok := strings.CutPrefix(l, n+":"); ok {
			takes = strings.TrimSpace(after)
		}
	}
	value := ""
	if len(is) == 1 {
		value = strings.TrimSpace(strings.TrimPrefix(is[0], n+":"))
	}
	switch {
	case !readable && !tested:
		return []Entry{{Say: "AT" + n, Meaning: standard[n]}}, nil
	case readable && value != "" && !strings.Contains(value, ",") && tested:
		e := Entry{Name: standard[n], Read: "AT" + n + "?", Write: "AT" + n + "=<value>", Answer: n + ": <value>", Range: spanOf(takes)}
		if strings.HasPrefix(value, `"`) {
			e.Write, e.Answer = "AT"+n+`="<value>"`, n+`: "<value>"`
		} else if e.Range == "" && !secret {
			e.Default = value // tells of which type it is
		}
		return []Entry{e}, nil
	case readable:
		return []Entry{{Say: "AT" + n + "?", Meaning: standard[n], Answer: vary(n, is)}}, nil
	}
	return []Entry{{Say: "AT" + n + "=<value>", Meaning: standard[n]}}, nil
}

// vary is an answer with its values as what may vary.
func vary(n string, lines []string) string {
	var all []string
	for _, l := range lines {
		after, ok := strings.CutPrefix(l, n+":")
		if !ok {
			continue
		}
		all = append(all, n+": "+regexp.MustCompile(`"[^"]*"|[^,\s]+`).ReplaceAllStringFunc(strings.TrimSpace(after), func(string) string { return "<v>" }))
	}
	return strings.Join(all, "\n")
}

// spanOf is what one value may be, of what a test command tells: (0-2), (0,1), or the least and the
// greatest of a list; "" if it is of several values, or of texts.
func spanOf(takes string) string {
	var groups []string
	for _, g := range regexp.MustCompile(`\(([^()]*)\)`).FindAllStringSubmatch(takes, -1) {
		if strings.TrimSpace(g[1]) != "" {
			groups = append(groups, g[1])
		}
	}
	if len(groups) != 1 || strings.Contains(groups[0], `"`) {
		return ""
	}
	all := regexp.MustCompile(`[0-9]+`).FindAllString(groups[0], -1)
	if len(all) == 0 {
		return ""
	}
	least, most := all[0], all[0]
	for _, n := range all {
		if len(n) < len(least) || len(n) == len(least) && n < least {
			least = n
		}
		if len(n) > len(most) || len(n) == len(most) && n > most {
			most = n
		}
	}
	return least + ".." + most
}
