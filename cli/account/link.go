package account

import (
	"fmt"
	"strings"
	"time"

	"uparrot/cli/shell"
	"uparrot/core/link"
	"uparrot/core/record"
)

// Progress watches how far a link test has come.
func Progress(f func([]link.Progress)) func(record.Event) {
	return func(e record.Event) {
		if p, ok := e.Live.([]link.Progress); ok {
			f(p)
		}
	}
}

// LinkProgress draws how a test is going; where that cannot be drawn, it says
// so every ten seconds.
func LinkProgress(sh *shell.Streams, t *link.Test) func([]link.Progress) {
	began, told := time.Now(), time.Now()
	if long := shell.Took(time.Duration(t.Count) * t.Every); t.Sure {
		sh.Err.Line("frames of %d bytes, one every %v, until the limits are decided: %s at most", t.Size, t.Every, long)
	} else {
		sh.Err.Line("%s of %d bytes, one every %v: about %s", shell.Count(t.Count, "frame"), t.Size, t.Every, long)
	}
	return func(all []link.Progress) {
		var parts []string
		for _, d := range all {
			part := fmt.Sprintf("%s to %s: %d sent, %d received", d.From, d.To, d.Sent, d.Received)
			if d.Mean > 0 {
				part += fmt.Sprintf(", on average after %.1f ms", d.Mean.Seconds()*1000)
			}
			if d.Silent.Frames >= 10 && d.Received > 0 {
				part += ", " + d.Silent.Words()
			}
			parts = append(parts, part)
		}
		text := fmt.Sprintf("%s  %s", shell.Took(time.Since(began).Round(100*time.Millisecond)), strings.Join(parts, "; "))
		sh.Err.Draw("%s", text)
		if !sh.Err.Terminal && time.Since(told) > 10*time.Second {
			told = time.Now()
			sh.Err.Line("%s", text)
		}
	}
}
