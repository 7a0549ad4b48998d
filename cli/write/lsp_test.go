package write

import (
	"testing"

	"go.lsp.dev/protocol"

	"uparrot/core/source"
	"uparrot/core/writing"
)

// An editor counts in units of UTF-16, mistakes in characters: each place leads to the other and back.
func TestPositions(t *testing.T) {
	lines := source.Lines{"abc", "ä𝄞b", ""}
	for _, c := range []struct {
		line, column int
		character    uint32
	}{{1, 1, 0}, {1, 4, 3}, {2, 2, 1}, {2, 3, 3}, {2, 4, 4}, {3, 1, 0}} {
		p := position(lines, c.line, c.column)
		if p.Line != uint32(c.line-1) || p.Character != c.character {
			t.Errorf("%v: %v", c, p)
		}
		if back := placeOf(lines, p); back != (writing.Place{Line: c.line, Column: c.column}) {
			t.Errorf("%v: back at %v", c, back)
		}
	}
	for _, p := range []protocol.Position{{Line: 99, Character: 99}, {Line: 1, Character: 2}, {Line: 0, Character: 50}} {
		if at := placeOf(lines, p); at.Column < 1 || at.Column > len([]rune(lines.At(at.Line)))+1 {
			t.Errorf("%v: %v", p, at)
		}
	}
	if _, err := whole(func() (any, error) { panic("a fault") }); err == nil {
		t.Error("a fault was passed over")
	}
}
