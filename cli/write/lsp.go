package write

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"go.lsp.dev/jsonrpc2"
	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"uparrot/cli/shell"
	"uparrot/core/rehearse"
	"uparrot/core/session"
	"uparrot/core/source"
	"uparrot/core/writing"
	"uparrot/docs/editor"
)

// LSP is the command lsp, a language server.
func LSP(sh *shell.Streams) *cobra.Command {
	var extension bool
	out := ""
	var rehearseFor time.Duration
	var files shell.Outputs
	cmd := &cobra.Command{
		Use:   "lsp",
		Short: "Help an editor with procedures, phrasebooks and benches",
		Long: `A language server over standard input and output (Language Server Protocol 3.16): it
tells mistakes while they are typed, what could stand at a place and what stands there,
goes to where a name gets its meaning, changes names in all their places, and lays
procedures out. When a procedure is saved it is rehearsed, and what bad modules would
pass is told with the lines that would catch them. docs/editor tells how editors start it.`,
		Example: "uparrot lsp",
		Args:    shell.Args(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case extension && out == "":
				return shell.Usage(cmd, "--extension: name the file with --out, such as uparrot.vsix")
			case out != "" && !extension:
				return shell.Usage(cmd, "--out belongs to --extension")
			case rehearseFor <= 0:
				return shell.Usage(cmd, "--rehearse-for: wanted a time above 0, such as 2s")
			case extension:
				if err := files.PlanFile(cmd, "out", out); err != nil {
					return err
				}
				return sh.Save(&files, out, editor.Extension)
			}
			s := &server{docs: map[uri.URI]*openDoc{}, rehearseFor: rehearseFor, rehearsals: make(chan struct{}, 1), gone: make(chan struct{})}
			s.conn = jsonrpc2.NewConn(jsonrpc2.NewStream(duplex{sh.In, sh.Out}))
			s.conn.Go(cmd.Context(), s.handle)
			select {
			case <-s.conn.Done():
			case <-s.gone:
			case <-cmd.Context().Done():
			}
			s.work.Wait()
			if !s.down && cmd.Context().Err() == nil { // as the protocol has it, for an editor that was lost
				return shell.QuietError{Status: shell.ExitFailed}
			}
			return nil
		},
	}
	files.Add(cmd)
	cmd.Flags().DurationVar(&rehearseFor, "rehearse-for", 2*time.Second, "how long a saved procedure is rehearsed at most")
	cmd.Flags().BoolVar(&extension, "extension", false, "write the extension for Visual Studio Code, in place of serving")
	cmd.Flags().StringVar(&out, "out", "", "write the extension to this file")
	return cmd
}

// duplex is standard input and output as one.
type duplex struct {
	io.Reader
	io.Writer
}

// Close does nothing: whoever began the program closes its input.
func (duplex) Close() error { return nil }

// server answers an editor.
type server struct {
	conn jsonrpc2.Conn
	work sync.WaitGroup // rehearsals that go on

	mu    sync.Mutex
	docs  map[uri.URI]*openDoc
	over  bool
	down  bool          // the editor has said that it will go
	gone  chan struct{} // closed when the editor has said that it goes
	later *time.Timer   // tells the mistakes of what was typed; nil if nothing was

	rehearseFor time.Duration // the longest rehearsal
	rehearsals  chan struct{} // one at a time
}

// openDoc is a file that is open in the editor.
type openDoc struct {
	*writing.Doc
	uri     uri.URI
	text    string
	version int32
	dirty   bool               // it was changed since it was read
	mends   []writing.Fix      // of its last rehearsal, while the text is the same
	weak    []source.Mistake   // what that rehearsal found
	stop    context.CancelFunc // of the rehearsal that goes on; nil if none does
}

// handle answers one message.
func (s *server) handle(ctx context.Context, reply jsonrpc2.Replier, req jsonrpc2.Request) error {
	do := requests[req.Method()]
	if do == nil {
		if _, call := req.(*jsonrpc2.Call); !call {
			return nil // a notification that nobody needs
		}
		return reply(ctx, nil, fmt.Errorf("%q: %w", req.Method(), jsonrpc2.ErrMethodNotFound))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	result, err := whole(func() (any, error) { return do(s, ctx, req.Params()) })
	return reply(ctx, result, err)
}

// whole has a fault in answering one message be the answer to it: the editor loses no other.
func whole(do func() (any, error)) (result any, err error) {
	defer func() {
		if fault := recover(); fault != nil {
			result, err = nil, fmt.Errorf("a fault in uparrot: %v", fault)
		}
	}()
	return do()
}

// requests are the messages that are understood.
var requests = map[string]func(*server, context.Context, json.RawMessage) (any, error){
	protocol.MethodInitialize:                 (*server).initialize,
	protocol.MethodInitialized:                nothing,
	protocol.MethodShutdown:                   (*server).shutdown,
	protocol.MethodExit:                       (*server).exit,
	protocol.MethodTextDocumentDidOpen:        with((*server).didOpen),
	protocol.MethodTextDocumentDidChange:      with((*server).didChange),
	protocol.MethodTextDocumentDidSave:        with((*server).didSave),
	protocol.MethodTextDocumentDidClose:       with((*server).didClose),
	protocol.MethodTextDocumentCompletion:     with((*server).completion),
	protocol.MethodTextDocumentHover:          with((*server).hover),
	protocol.MethodTextDocumentDefinition:     with((*server).definition),
	protocol.MethodTextDocumentReferences:     with((*server).references),
	protocol.MethodTextDocumentPrepareRename:  with((*server).prepareRename),
	protocol.MethodTextDocumentRename:         with((*server).rename),
	protocol.MethodTextDocumentFormatting:     with((*server).formatting),
	protocol.MethodTextDocumentCodeAction:     with((*server).codeAction),
	protocol.MethodTextDocumentDocumentSymbol: with((*server).documentSymbol),
}

// with reads what a message says before it is answered.
func with[P any](do func(*server, context.Context, *P) (any, error)) func(*server, context.Context, json.RawMessage) (any, error) {
	return func(s *server, ctx context.Context, raw json.RawMessage) (any, error) {
		var p P
		if err := json.Unmarshal(raw, &p); err != nil {
			return nil, fmt.Errorf("%w: %v", jsonrpc2.ErrInvalidParams, err)
		}
		return do(s, ctx, &p)
	}
}

func nothing(*server, context.Context, json.RawMessage) (any, error) { return nil, nil }

func (s *server) initialize(context.Context, json.RawMessage) (any, error) {
	return protocol.InitializeResult{
		Capabilities: protocol.ServerCapabilities{
			TextDocumentSync:           protocol.TextDocumentSyncOptions{OpenClose: true, Change: protocol.TextDocumentSyncKindFull, Save: &protocol.SaveOptions{}},
			CompletionProvider:         &protocol.CompletionOptions{TriggerCharacters: []string{" ", ":", "{", "=", `"`, "["}},
			HoverProvider:              true,
			DefinitionProvider:         true,
			ReferencesProvider:         true,
			RenameProvider:             protocol.RenameOptions{PrepareProvider: true},
			DocumentFormattingProvider: true,
			DocumentSymbolProvider:     true,
			CodeActionProvider:         protocol.CodeActionOptions{CodeActionKinds: []protocol.CodeActionKind{protocol.QuickFix}},
		},
		ServerInfo: &protocol.ServerInfo{Name: "uparrot", Version: shell.Version},
	}, nil
}

func (s *server) exit(context.Context, json.RawMessage) (any, error) {
	for _, d := range s.docs {
		d.halt()
	}
	if !s.over {
		close(s.gone) // its input may stay open
	}
	s.over = true
	return nil, nil
}

func (s *server) shutdown(context.Context, json.RawMessage) (any, error) {
	s.down = true
	return nil, nil
}

// halt ends the rehearsal of a file that goes on.
func (d *openDoc) halt() {
	if d.stop != nil {
		d.stop()
		d.stop = nil
	}
}

// pathOf is the path of a file that an editor names; of what is no file on disk, its name.
func pathOf(u uri.URI) string {
	if strings.HasPrefix(string(u), uri.FileScheme+"://") {
		if p, err := uri.Parse(string(u)); err == nil {
			return p.Filename()
		}
	}
	_, name, _ := strings.Cut(string(u), ":")
	return filepath.Base(name)
}

// readFile is a file as it is in the editor, or else on disk.
func (s *server) readFile(path string) ([]byte, error) {
	for _, d := range s.docs {
		if d.Path == path {
			return []byte(d.text), nil
		}
	}
	return source.ReadFile(path)
}

// opened is a file that is open, read as it stands.
func (s *server) opened(u uri.URI) (*openDoc, error) {
	d := s.docs[u]
	if d == nil {
		return nil, fmt.Errorf("%s is not open", u)
	}
	if d.dirty {
		d.Doc, d.dirty = writing.Read(d.Path, d.text, s.readFile), false
	}
	return d, nil
}

func (s *server) didOpen(ctx context.Context, p *protocol.DidOpenTextDocumentParams) (any, error) {
	u := p.TextDocument.URI
	s.docs[u] = &openDoc{Doc: &writing.Doc{Path: pathOf(u)}, uri: u, text: p.TextDocument.Text, version: p.TextDocument.Version, dirty: true}
	s.toldAll(ctx) // and no more: to look at a file runs nothing in it
	return nil, nil
}

func (s *server) didChange(ctx context.Context, p *protocol.DidChangeTextDocumentParams) (any, error) {
	d := s.docs[p.TextDocument.URI]
	if d == nil || len(p.ContentChanges) == 0 {
		return nil, nil
	}
	d.text, d.version = p.ContentChanges[len(p.ContentChanges)-1].Text, p.TextDocument.Version
	d.mends, d.weak = nil, nil // they were of another text
	d.halt()
	d.dirty = true
	if s.later == nil {
		s.later = time.AfterFunc(typing, func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			if s.later = nil; !s.over {
				s.toldAll(ctx)
			}
		})
	} else {
		s.later.Reset(typing)
	}
	return nil, nil
}

// typing is how long nothing is typed before mistakes are told.
const typing = 120 * time.Millisecond

func (s *server) didSave(ctx context.Context, p *protocol.DidSaveTextDocumentParams) (any, error) {
	s.toldAll(ctx)
	s.rehearse(ctx, p.TextDocument.URI)
	return nil, nil
}

func (s *server) didClose(ctx context.Context, p *protocol.DidCloseTextDocumentParams) (any, error) {
	if d := s.docs[p.TextDocument.URI]; d != nil {
		d.halt()
	}
	delete(s.docs, p.TextDocument.URI)
	s.toldAll(ctx)
	return nil, s.conn.Notify(ctx, protocol.MethodTextDocumentPublishDiagnostics, &protocol.PublishDiagnosticsParams{URI: p.TextDocument.URI, Diagnostics: []protocol.Diagnostic{}})
}

// toldAll tells of all open files what is wrong in them: one may name another.
func (s *server) toldAll(ctx context.Context) {
	for _, u := range slices.Sorted(maps.Keys(s.docs)) {
		d := s.docs[u]
		d.dirty = true
		if d, err := s.opened(u); err == nil {
			s.tell(ctx, d)
		}
	}
}

// mostTold is how many findings of a file an editor is told at most.
const mostTold = 100

// tell tells what is wrong in a file.
func (s *server) tell(ctx context.Context, d *openDoc) {
	list := []protocol.Diagnostic{}
	if d.Foreign() {
		return // a table of something else, which the editor has open
	}
	add := func(m source.Mistake, severity protocol.DiagnosticSeverity) {
		list = append(list, diagnosed(d.Doc, m, severity))
	}
	for _, m := range d.Mistakes {
		add(m, protocol.DiagnosticSeverityError)
	}
	for _, m := range d.Warnings {
		add(m, protocol.DiagnosticSeverityWarning)
	}
	for _, m := range d.weak {
		add(m, protocol.DiagnosticSeverityInformation)
	}
	if more := len(list) - mostTold; more > 0 {
		list[mostTold-1].Message += fmt.Sprintf("\n%d more are not shown: mend these first", more)
		list = list[:mostTold]
	}
	_ = s.conn.Notify(ctx, protocol.MethodTextDocumentPublishDiagnostics, // an editor that has gone ends the connection
		&protocol.PublishDiagnosticsParams{URI: d.uri, Version: uint32(max(0, d.version)), Diagnostics: list})
}

// rehearse rehearses a procedure beside all else, and tells what bad modules would pass.
func (s *server) rehearse(ctx context.Context, u uri.URI) {
	d := s.docs[u]
	if d == nil || d.Kind != writing.Procedure || len(d.Mistakes) > 0 || !strings.HasPrefix(string(u), uri.FileScheme+"://") {
		return
	}
	d.halt()
	own, stop := context.WithCancel(ctx)
	d.stop = stop
	doc, text := d.Doc, d.text
	s.work.Go(func() {
		defer stop()
		select {
		case s.rehearsals <- struct{}{}:
			defer func() { <-s.rehearsals }()
		case <-own.Done():
			return
		}
		r, err := rehearsalOf(own, doc, s.rehearseFor)
		s.mu.Lock()
		defer s.mu.Unlock()
		now := s.docs[u]
		if s.over || now == nil || now.text != text || own.Err() != nil { // changed since, or nobody asks any more
			return
		}
		now.mends, now.weak = nil, nil
		if err == nil && r.Cut != "" {
			now.weak = []source.Mistake{cutShort(doc.Path, r.Cut)}
			s.tell(ctx, now)
			return
		}
		if err != nil { // it needs a bench, or does not pass at good modules
			return
		}
		now.mends = writing.Mends(doc, r)
		for _, f := range now.mends {
			now.weak = append(now.weak, source.Mistake{File: doc.Path, Line: f.At, Column: 1, Width: 4, What: f.Why, Mend: "Put in: " + strings.TrimSpace(f.Edits[0].Text)})
		}
		s.tell(ctx, now)
	})
}

// cutShort tells that a rehearsal was not over in time: no finding must not look like a good one.
func cutShort(path, why string) source.Mistake {
	return source.Mistake{File: path, Line: 1, Column: 1, Width: 1,
		What: fmt.Sprintf("the rehearsal was cut, since %s: what a bad module would pass is not known", why),
		Mend: "Run uparrot rehearse " + filepath.Base(path) + ", or start the server with a longer --rehearse-for."}
}

// rehearsalOf rehearses a procedure on modules made of its phrasebooks.
func rehearsalOf(ctx context.Context, d *writing.Doc, within time.Duration) (*rehearse.Report, error) {
	p := &session.Procedure{File: d.Procedure(), Ports: &session.Ports{}}
	var err error
	if p.Values, _, err = (session.Inputs{}).Chosen(p.File); err != nil {
		return nil, err
	}
	play, err := p.Play()
	if err != nil {
		return nil, err
	}
	play.Seed, play.For = 1, within
	return play.Rehearse(ctx, 0)
}
