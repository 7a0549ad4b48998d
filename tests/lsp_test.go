//go:build unix

package tests

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"uparrot/core/writing"
)

// editor speaks to the language server as an editor does.
type editor struct {
	t     *testing.T
	b     *bench
	conn  jsonrpc2.Conn
	found chan protocol.PublishDiagnosticsParams
	texts map[uri.URI]string
}

type pipes struct {
	io.Reader
	io.WriteCloser
}

func openEditor(t *testing.T, b *bench, flags ...string) *editor {
	t.Helper()
	cmd := exec.Command(uparrot, append([]string{"lsp"}, flags...)...)
	cmd.Dir = b.dir
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := cmd.Start(); err1 != nil || err2 != nil || err != nil {
		t.Fatal(err1, err2, err)
	}
	e := &editor{t, b, jsonrpc2.NewConn(jsonrpc2.NewStream(pipes{out, in})), make(chan protocol.PublishDiagnosticsParams, 100), map[uri.URI]string{}}
	e.conn.Go(context.Background(), func(ctx context.Context, reply jsonrpc2.Replier, req jsonrpc2.Request) error {
		var p protocol.PublishDiagnosticsParams
		if req.Method() == protocol.MethodTextDocumentPublishDiagnostics && json.Unmarshal(req.Params(), &p) == nil {
			e.found <- p
		}
		return reply(ctx, nil, nil)
	})
	t.Cleanup(func() {
		e.call(protocol.MethodShutdown, nil, nil)
		_ = e.conn.Notify(context.Background(), protocol.MethodExit, nil) // it goes then
		if err := cmd.Wait(); err != nil {
			t.Errorf("lsp ended with %v", err)
		}
	})
	var caps protocol.InitializeResult
	e.call(protocol.MethodInitialize, protocol.InitializeParams{}, &caps)
	if caps.Capabilities.CompletionProvider == nil || caps.ServerInfo.Name != "uparrot" {
		t.Errorf("%+v", caps)
	}
	return e
}

func (e *editor) call(method string, params, result any) {
	e.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	if _, err := e.conn.Call(ctx, method, params, result); err != nil {
		e.t.Fatalf("%s: %v", method, err)
	}
}

func (e *editor) notify(method string, params any) {
	e.t.Helper()
	if err := e.conn.Notify(e.t.Context(), method, params); err != nil {
		e.t.Fatalf("%s: %v", method, err)
	}
}

func (e *editor) uri(file string) uri.URI { return uri.File(filepath.Join(e.b.dir, file)) }

func (e *editor) open(file, text string) uri.URI {
	u := e.uri(file)
	e.texts[u] = text
	e.notify(protocol.MethodTextDocumentDidOpen, protocol.DidOpenTextDocumentParams{TextDocument: protocol.TextDocumentItem{URI: u, Text: text}})
	return u
}

func (e *editor) saved(u uri.URI) {
	e.notify(protocol.MethodTextDocumentDidSave, protocol.DidSaveTextDocumentParams{TextDocument: protocol.TextDocumentIdentifier{URI: u}})
}

func (e *editor) change(u uri.URI, text string) {
	e.texts[u] = text
	e.notify(protocol.MethodTextDocumentDidChange, protocol.DidChangeTextDocumentParams{TextDocument: protocol.VersionedTextDocumentIdentifier{TextDocumentIdentifier: protocol.TextDocumentIdentifier{URI: u}}, ContentChanges: []protocol.TextDocumentContentChangeEvent{{Text: text}}})
}

// told waits until what is told of a file is as wanted.
func (e *editor) told(u uri.URI, what string, is func([]protocol.Diagnostic) bool) []protocol.Diagnostic {
	e.t.Helper()
	var last []protocol.Diagnostic
	for {
		select {
		case p := <-e.found:
			if p.URI == u {
				if last = p.Diagnostics; is(last) {
					return last
				}
			}
		case <-time.After(time.Minute):
			e.t.Fatalf("%s was not told; last: %+v", what, last)
		}
	}
}

func (e *editor) at(u uri.URI, text string, in int) protocol.TextDocumentPositionParams {
	e.t.Helper()
	before, _, ok := strings.Cut(e.texts[u], text)
	if !ok {
		e.t.Fatalf("%q is not there", text)
	}
	line := strings.Count(before, "\n")
	return protocol.TextDocumentPositionParams{TextDocument: protocol.TextDocumentIdentifier{URI: u}, Position: protocol.Position{Line: uint32(line), Character: uint32(len(before) - strings.LastIndexByte(before, '\n') - 1 + in)}}
}

// applied makes the edits of an editor in its texts.
func (e *editor) applied(u uri.URI, edits []protocol.TextEdit) string {
	var own []writing.Edit
	for _, x := range edits {
		if x.Range.Start.Line != x.Range.End.Line {
			return x.NewText // all of it
		}
		own = append(own, writing.Edit{Range: writing.Range{Line: int(x.Range.Start.Line) + 1, From: int(x.Range.Start.Character) + 1, To: int(x.Range.End.Character) + 1}, Text: x.NewText})
	}
	return writing.Apply(e.texts[u], own)
}

func (e *editor) actions(u uri.URI, line uint32) (all []protocol.CodeAction) {
	e.t.Helper()
	e.call(protocol.MethodTextDocumentCodeAction, protocol.CodeActionParams{TextDocument: protocol.TextDocumentIdentifier{URI: u}, Range: protocol.Range{Start: protocol.Position{Line: line}, End: protocol.Position{Line: line}}}, &all)
	return all
}

func errorsOf(list []protocol.Diagnostic, severity protocol.DiagnosticSeverity) (texts []string) {
	for _, d := range list {
		if d.Severity == severity {
			texts = append(texts, d.Message)
		}
	}
	return texts
}

// An editor is helped with a procedure from the first word to one that catches bad modules.
func TestLanguageServer(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	e := openEditor(t, b, "--rehearse-for", "1m") // a busy machine is slow
	weak := b.read("hasty.parrot")
	u := e.open("hasty.parrot", weak)
	e.saved(u)
	// What a bad module would pass is told once it was rehearsed, and each change that is offered for it
	// leaves a file that passes check and tidy; with all of them nothing is missed.
	isWeak := func(list []protocol.Diagnostic) bool {
		return len(errorsOf(list, protocol.DiagnosticSeverityInformation)) > 0
	}
	found := e.told(u, "what bad modules would pass", isWeak)
	if !strings.Contains(errorsOf(found, protocol.DiagnosticSeverityInformation)[0], "a bad module would pass: address at radio: not stored") {
		t.Errorf("%+v", found)
	}
	mends := 0
	for isWeak(found) {
		line := found[slices.IndexFunc(found, func(d protocol.Diagnostic) bool {
			return d.Severity == protocol.DiagnosticSeverityInformation
		})].Range.Start.Line
		actions := e.actions(u, line)
		if len(actions) == 0 {
			t.Fatalf("no change is offered for %+v", found)
		}
		text := e.applied(u, actions[0].Edit.Changes[u])
		if mends++; mends > 10 {
			t.Fatalf("it never becomes strong:\n%s", text)
		}
		b.write("mended.parrot", text)
		b.run("check", "mended.parrot").wants(t, 0)
		b.run("tidy", "--diff", "mended.parrot").wants(t, 0)
		e.change(u, text)
		e.told(u, "the change", func(l []protocol.Diagnostic) bool { return !isWeak(l) })
		e.saved(u)
		e.told(u, "what is wrong after it was saved", func(l []protocol.Diagnostic) bool { return true })
		if c := b.run("rehearse", "mended.parrot"); strings.Contains(c.out, " 0 missed") && strings.Contains(c.out, " 0 false alarms") {
			break
		}
		found = e.told(u, "what bad modules would pass still", isWeak)
	}
	if mends != 5 { // four checks, and tries at the first step
		t.Errorf("%d changes", mends)
	}

	// Mistakes are those of check, and the changes that are offered mend them.
	e.change(u, strings.Replace(e.texts[u], "say radio: AT~NODE={address}", "say rado: AT~NODE={adress}\n    limit", 1))
	b.write("wrong.parrot", e.texts[u])
	check := b.run("check", "wrong.parrot").wants(t, 2)
	found = e.told(u, "the mistakes", func(l []protocol.Diagnostic) bool { return len(errorsOf(l, protocol.DiagnosticSeverityError)) > 0 })
	for _, d := range errorsOf(found, protocol.DiagnosticSeverityError) {
		if first, _, _ := strings.Cut(d, "\n"); !strings.Contains(check.err, first) {
			t.Errorf("check does not tell %q: %s", d, check.err)
		}
	}
	if actions := e.actions(u, found[0].Range.Start.Line); len(actions) != 1 || !strings.Contains(e.applied(u, actions[0].Edit.Changes[u]), "say radio: AT~NODE={adress}") {
		t.Errorf("%+v", actions)
	}

	e.change(u, weak)
	e.told(u, "no mistakes", func(l []protocol.Diagnostic) bool { return len(errorsOf(l, protocol.DiagnosticSeverityError)) == 0 })
	var list protocol.CompletionList
	e.call(protocol.MethodTextDocumentCompletion, protocol.CompletionParams{TextDocumentPositionParams: e.at(u, "AT~NODE={address}", 3)}, &list)
	if i := slices.IndexFunc(list.Items, func(it protocol.CompletionItem) bool { return it.Label == "AT~CHANNEL={value}" }); i < 0 || list.Items[i].TextEdit.NewText != "AT~CHANNEL={channel}" || list.Items[i].Detail != "sets channel" {
		t.Errorf("%+v", list.Items)
	}
	var hover protocol.Hover
	e.call(protocol.MethodTextDocumentHover, protocol.HoverParams{TextDocumentPositionParams: e.at(u, "AT~NODE={address}", 3)}, &hover)
	if !strings.Contains(hover.Contents.Value, "sets address") {
		t.Errorf("%+v", hover)
	}
	var place protocol.Location
	e.call(protocol.MethodTextDocumentDefinition, protocol.DefinitionParams{TextDocumentPositionParams: e.at(u, "{address}", 2)}, &place)
	if place.URI != u || place.Range.Start.Line != 7 {
		t.Errorf("%+v", place)
	}
	e.call(protocol.MethodTextDocumentDefinition, protocol.DefinitionParams{TextDocumentPositionParams: e.at(u, "AT~POWER?", 2)}, &place)
	if place.URI != e.uri("dunlin.toml") || place.Range.Start.Line == 0 {
		t.Errorf("%+v", place)
	}
	var change protocol.WorkspaceEdit
	e.call(protocol.MethodTextDocumentRename, protocol.RenameParams{TextDocumentPositionParams: e.at(u, "{address}", 2), NewName: "node"}, &change)
	if got := e.applied(u, change.Changes[u]); !strings.Contains(got, "input node: int") || !strings.Contains(got, "AT~NODE={node}") {
		t.Errorf("%+v:\n%s", change, got)
	}
	if _, err := e.conn.Call(t.Context(), protocol.MethodTextDocumentRename, protocol.RenameParams{TextDocumentPositionParams: e.at(u, "{address}", 2), NewName: "channel"}, &change); err == nil || !strings.Contains(err.Error(), "channel is the name of an input already") {
		t.Error(err)
	}
	e.change(u, strings.ReplaceAll(weak, "    ", "  "))
	var edits []protocol.TextEdit
	e.call(protocol.MethodTextDocumentFormatting, protocol.DocumentFormattingParams{TextDocument: protocol.TextDocumentIdentifier{URI: u}}, &edits)
	if got := e.applied(u, edits); got != weak {
		t.Errorf("laid out:\n%s", got)
	}
	var symbols []protocol.DocumentSymbol
	e.call(protocol.MethodTextDocumentDocumentSymbol, protocol.DocumentSymbolParams{TextDocument: protocol.TextDocumentIdentifier{URI: u}}, &symbols)
	if len(symbols) != 7 || symbols[3].Name != "the radio answers" {
		t.Errorf("%+v", symbols)
	}

	// What is wrong in a phrasebook that is open is told as it stands in the editor, also where a
	// procedure names it; a bench is helped with, too.
	book := e.open("dunlin.toml", strings.Replace(b.read("dunlin.toml"), "[[setting]]", "[[seting]]", 1))
	if found = e.told(book, "the phrasebook's mistake", func(l []protocol.Diagnostic) bool { return len(l) > 0 }); !strings.Contains(found[0].Message, "Did you mean \"setting\"?") {
		t.Errorf("%+v", found)
	}
	e.told(u, "the phrasebook's mistake at the procedure", func(l []protocol.Diagnostic) bool {
		return len(errorsOf(l, protocol.DiagnosticSeverityError)) > 0 && strings.Contains(l[0].Message, "dunlin.toml:")
	})
	e.notify(protocol.MethodTextDocumentDidClose, protocol.DidCloseTextDocumentParams{TextDocument: protocol.TextDocumentIdentifier{URI: book}})
	e.told(u, "that it is gone", func(l []protocol.Diagnostic) bool { return len(errorsOf(l, protocol.DiagnosticSeverityError)) == 0 })
	other := e.open("pyproject.toml", "[project]\nname = \"x\"\n")
	table := e.open("own.toml", "[port.a]\nat = \"/dev/ttyX\"\nspede = 9600\n")
	e.told(table, "the bench's mistake", func(l []protocol.Diagnostic) bool { return len(l) == 1 })
	e.call(protocol.MethodTextDocumentHover, protocol.HoverParams{TextDocumentPositionParams: e.at(table, "at = ", 1)}, &hover)
	if !strings.Contains(hover.Contents.Value, "where it is") {
		t.Errorf("%+v", hover)
	}
	for len(e.found) > 0 {
		if p := <-e.found; p.URI == other && len(p.Diagnostics) > 0 {
			t.Errorf("a table of another program: %+v", p.Diagnostics)
		}
	}
	bench := e.open("larkfell.toml", b.read("larkfell.toml"))
	e.call(protocol.MethodTextDocumentDefinition, protocol.DefinitionParams{TextDocumentPositionParams: e.at(bench, "phrasebook = ", 2)}, &place)
	if place.URI != e.uri("dunlin.toml") {
		t.Errorf("%+v", place)
	}
	if _, err := e.conn.Call(t.Context(), "textDocument/noSuch", nil, nil); err == nil {
		t.Error("an unknown request is answered")
	}
	if _, err := e.conn.Call(t.Context(), protocol.MethodTextDocumentHover, []int{1}, nil); err == nil {
		t.Error("a request that says nothing is answered")
	}
}

// A file full of mistakes does not fill an editor.
func TestManyMistakes(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	e := openEditor(t, b)
	text := "procedure \"Many\"\nport radio\nstep \"s\"\n"
	for i := range 150 {
		text += fmt.Sprintf("    frobnicate%d radio\n", i)
	}
	u := e.open("many.parrot", text+"end\n")
	list := e.told(u, "its mistakes", func(l []protocol.Diagnostic) bool { return len(l) > 0 })
	if last := list[len(list)-1].Message; len(list) != 100 || !strings.Contains(last, "50 more are not shown") {
		t.Errorf("%d are told, the last %q", len(list), last)
	}
}

// To open a file runs nothing in it; what is saved is rehearsed, for so long and no longer, and what was
// cut is told, for it says nothing of bad modules.
func TestRehearsedWhenSaved(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	e := openEditor(t, b, "--rehearse-for", "100ms")
	weak := e.open("hasty.parrot", b.read("hasty.parrot"))
	head, _, _ := strings.Cut(b.read("hasty.parrot"), "step ")
	endless := e.open("endless.parrot", head+"step \"s\" within 10m\n    say radio: AT\n    repeat 1000000 times\n        repeat 1000000 times\n            let x = address\n        end\n    end\nend\n")
	e.saved(endless)
	for { // rehearsals go one after another: one of the first file would be told by now
		p := <-e.found
		said := errorsOf(p.Diagnostics, protocol.DiagnosticSeverityInformation)
		if p.URI == weak && len(said) > 0 {
			t.Errorf("opened, and rehearsed: %q", said)
		}
		if p.URI == endless && len(said) > 0 {
			if line := p.Diagnostics[len(p.Diagnostics)-1].Range.Start.Line; len(said) != 1 || line != 0 || !strings.Contains(said[0], "the rehearsal was cut, since it is not over after 100ms: what a bad module would pass is not known") {
				t.Errorf("line %d: %q", line, said)
			}
			break
		}
	}
	b.run("lsp", "--rehearse-for", "0s").wants(t, 2, "--rehearse-for: wanted a time above 0, such as 2s")
}
