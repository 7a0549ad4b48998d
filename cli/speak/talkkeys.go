package speak

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"sync"

	tea "charm.land/bubbletea/v2"
	"github.com/muesli/cancelreader"
	"golang.org/x/term"

	"uparrot/cli/shell"
	"uparrot/core/talk"
	"uparrot/core/text"
)

// keysDoneMsg tells that key mode is over.
type keysDoneMsg struct{ err error }

// What leaves key mode: F12, as terminals send it, and Ctrl-].
var (
	leaveKey  = []byte("\x1b[24~")
	leaveCtrl = byte(0x1d)
)

// screenRight puts a terminal right after a module has drawn on it: soft reset,
// colours, cursor, scrolling region, character set, mouse and paste modes.
const screenRight = "\x1b[!p\x1b[0m\x1b[?25h\x1b[r\x1b(B\x0f\x1b[?7h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[?2004l\x1b[?1l\x1b>"

// keys hands the terminal over to the module: each key goes out as it is typed,
// and what comes is written as it is, so that consoles that draw work.
func (v *screenView) keys(p *pane) tea.Cmd {
	return tea.Exec(&keyMode{view: v, pane: p}, func(err error) tea.Msg { return keysDoneMsg{err} })
}

// keyMode is the terminal in the module's hands.
type keyMode struct {
	view *screenView
	pane *pane
	in   io.Reader
	out  io.Writer
}

func (k *keyMode) SetStdin(r io.Reader) { k.in = r }

func (k *keyMode) SetStdout(w io.Writer) { k.out = w }

func (k *keyMode) SetStderr(io.Writer) {}

func (k *keyMode) Run() error {
	f, ok := k.in.(*shell.NoticedInput)
	if !ok {
		return fmt.Errorf("key mode needs a terminal")
	}
	old, err := term.MakeRaw(int(f.Fd()))
	if err != nil {
		return fmt.Errorf("key mode: %w", err)
	}
	defer term.Restore(int(f.Fd()), old)
	give := func() error {
		_, _ = io.WriteString(k.out, screenRight)
		return term.Restore(int(f.Fd()), old)
	}
	take := func() error {
		_, err := term.MakeRaw(int(f.Fd()))
		return err
	}
	defer k.view.terminal.Set(give, take)()
	fmt.Fprintf(k.out, "\x1b[2J\x1b[HKeys go to %s as they are typed. F12 or Ctrl-] comes back.\r\n", shell.OneLine(k.pane.name))
	var mu sync.Mutex
	over := false
	tell := k.pane.Tell
	k.pane.Watch(func(e talk.Event) {
		tell(e)
		mu.Lock()
		defer mu.Unlock()
		switch {
		case over:
		case e.Kind == talk.Heard:
			k.out.Write(e.Bytes) // a terminal that has gone ends the program anyway
		case e.Kind == talk.Note:
			fmt.Fprintf(k.out, "\r\n# %s\r\n", text.Shown(e.Bytes))
		}
	})
	defer func() {
		k.pane.Watch(tell)
		mu.Lock()
		over = true
		io.WriteString(k.out, screenRight)
		mu.Unlock()
	}()
	return k.pump(f)
}

// pump says keys as they are typed, until the one that leaves.
func (k *keyMode) pump(f *shell.NoticedInput) error {
	keys, err := cancelreader.NewReader(f)
	if err != nil {
		return fmt.Errorf("read the keys: %w", err)
	}
	defer keys.Close()
	defer context.AfterFunc(k.view.ctx, func() { keys.Cancel() })()
	buf := make([]byte, 256)
	for {
		n, err := keys.Read(buf)
		if k.view.ctx.Err() != nil {
			return context.Cause(k.view.ctx)
		}
		if err != nil {
			return fmt.Errorf("read the keys: %w", err)
		}
		b, leave := keysIn(buf[:n])
		if len(b) > 0 {
			if err := k.pane.Keys(k.view.ctx, b); err != nil {
				return err
			}
		}
		if leave {
			return nil
		}
	}
}

// keysIn are the keys among what was typed that go to the module, up to one that leaves.
func keysIn(typed []byte) (keys []byte, leave bool) {
	for i, b := range typed {
		if b == leaveCtrl || bytes.HasPrefix(typed[i:], leaveKey) {
			return typed[:i], true
		}
	}
	return typed, false
}
