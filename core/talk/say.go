package talk

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/port"
	"uparrot/core/record"
)

// AnswerTime is how long an answer is waited for where nothing is said of it.
const AnswerTime = 5 * time.Second

// Words are what is said at a time.
type Words struct {
	Text  string
	Whole bool // as it is, without a line ending

	secrets []string // that they hold
}

// key reports whether the words are nothing but control bytes: those go out at once, also
// in the midst of an answer.
func (w Words) key() bool {
	return w.Whole && strings.IndexFunc(w.Text, func(r rune) bool { return r >= ' ' }) < 0
}

// queue is what waits to be said, each after the answer to the one before.
type queue struct {
	ctx context.Context

	mu     sync.Mutex
	list   []Words
	at     bool               // somebody is saying it
	hurry  context.CancelFunc // of the wait for an answer that is under way; nil if none is
	lapses int                // lines that got no answer
}

// Queue has words said after the answers to all that were said before. It does not wait.
func (t *Talker) Queue(words ...Words) {
	q := &t.queue
	q.mu.Lock()
	defer q.mu.Unlock()
	for _, w := range words {
		if w.key() && q.at { // it may be to end the very answer
			go t.sayNow(w)
			continue
		}
		q.list = append(q.list, w)
	}
	if !q.at && len(q.list) > 0 {
		q.at = true
		go t.sayQueue()
	}
}

// sayNow says words in the midst of an answer.
func (t *Talker) sayNow(w Words) {
	if err := t.Keys(t.queue.ctx, []byte(w.Text)); err != nil && t.queue.ctx.Err() == nil {
		t.note("%v", err)
	}
}

func (t *Talker) sayQueue() {
	q := &t.queue
	for {
		q.mu.Lock()
		if len(q.list) == 0 || q.ctx.Err() != nil {
			q.at = false
			q.mu.Unlock()
			return
		}
		next := q.list[0]
		q.list = q.list[1:]
		more := len(q.list) > 0
		q.mu.Unlock()
		t.turnPages(more)
		err := t.Say(q.ctx, next)
		if err == nil {
			_, err = t.Answered(q.ctx)
		}
		if err != nil && q.ctx.Err() == nil {
			t.note("%v", err)
		}
	}
}

// turnPages has the pages of a long answer turned while more lines wait to be said, which
// else would be said to the pager.
func (t *Talker) turnPages(more bool) {
	if pagers := t.Station.Setup.Pager.Patterns(); !t.Pages && len(pagers) > 0 {
		t.now().Configure(func(c *dialog.Config) {
			if c.Pagers = nil; more {
				c.Pagers = pagers
			}
		})
	}
}

// Waiting is how many lines wait to be said.
func (t *Talker) Waiting() int {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	return len(t.queue.list)
}

// Hurry ends the wait for the answer that is under way, so that the next line goes out.
func (t *Talker) Hurry() {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	if t.queue.hurry != nil {
		t.queue.hurry()
	}
}

// Drop forgets the lines that wait to be said, and tells how many there were.
func (t *Talker) Drop() int {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	n := len(t.queue.list)
	t.queue.list = nil
	return n
}

// Answering reports whether something is being said, or its answer waited for.
func (t *Talker) Answering() bool {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	return t.queue.at
}

// Lapses is how many lines got no answer, or none that ended.
func (t *Talker) Lapses() int {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	return t.queue.lapses
}

// Say says words at once: whoever says several waits for the answers between.
func (t *Talker) Say(ctx context.Context, w Words) error {
	d := t.now()
	t.saying(w)
	t.keyed = w.key()
	var err error
	if w.Whole {
		_, err = d.SayBytes(ctx, []byte(w.Text))
	} else {
		d.PassAll() // what nobody waits for need not be kept
		d.GiveUp()  // who types sees what comes
		_, err = d.Say(ctx, w.Text, 0)
	}
	if t.away(err) {
		if t.Knows(w.Text) {
			w.Text = "a line"
		}
		t.note("the port is away: %q was not said", w.Text)
		return nil
	}
	return err
}

// away reports whether an error is that of a port that has gone and is looked for.
func (t *Talker) away(err error) bool {
	return t.Reopen && err != nil && port.KindOf(err) != port.Other
}

// errHurried ends a wait for an answer.
var errHurried = errors.New("it was not waited for any longer")

// Answered waits for the answer to what was said last, and tells if there was none. A port
// that has gone and is looked for owes none.
func (t *Talker) Answered(ctx context.Context) (dialog.How, error) {
	inner, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	t.hurryBy(func() { cancel(errHurried) })
	d := t.now()
	how, err := d.Answered(inner, t.Wait)
	t.hurryBy(nil)
	t.answered(err == nil && how == dialog.Nothing)
	switch {
	case t.away(err), err == nil && t.keyed: // a key need not be answered
		return dialog.Finished, nil
	case errors.Is(err, errHurried):
		return dialog.Unended, nil
	case err != nil || how.Came():
		return how, err
	case how == dialog.Nothing && d.Repeated():
		t.lapse("nothing came within %v but what was said itself", t.Wait.Within)
	case how == dialog.Nothing:
		t.lapse("nothing came within %v", t.Wait.Within)
	case d.EndOfAnswer() != "":
		t.lapse("something came, but not the end of an answer within %v more: %s", t.Wait.Within, d.EndOfAnswer())
	default:
		t.lapse("what came did not cease for %v", dialog.LongestAnswer*t.Wait.Within)
	}
	return how, nil
}

func (t *Talker) hurryBy(f context.CancelFunc) {
	t.queue.mu.Lock()
	defer t.queue.mu.Unlock()
	t.queue.hurry = f
}

// lapse tells that a line got no answer.
func (t *Talker) lapse(format string, args ...any) {
	t.queue.mu.Lock()
	t.queue.lapses++
	t.queue.mu.Unlock()
	text := fmt.Sprintf(format, args...)
	t.tell(Event{Time: time.Now(), Kind: Note, Bytes: []byte(text), Lapse: true})
	t.Events.Emit(record.Event{Kind: record.Note, Port: t.Station.Name, Text: t.Station.Name + ": " + text})
}
