package write

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"unicode/utf16"

	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"uparrot/core/source"
	"uparrot/core/writing"
)

// placeOf is a place that an editor names, which counts in units of UTF-16.
func placeOf(lines source.Lines, p protocol.Position) writing.Place {
	line := lines.At(int(p.Line) + 1)
	units, column := 0, 1
	for _, r := range line {
		if units >= int(p.Character) {
			break
		}
		units += utf16.RuneLen(r)
		column++
	}
	return writing.Place{Line: int(p.Line) + 1, Column: column}
}

// position is a column as an editor counts it.
func position(lines source.Lines, line, column int) protocol.Position {
	units := 0
	for i, r := range []rune(lines.At(line)) {
		if i >= column-1 {
			break
		}
		units += max(1, utf16.RuneLen(r))
	}
	return protocol.Position{Line: uint32(max(0, line-1)), Character: uint32(units)}
}

func stretch(lines source.Lines, r writing.Range) protocol.Range {
	return protocol.Range{Start: position(lines, r.Line, r.From), End: position(lines, r.Line, r.To)}
}

// diagnosed is a mistake as an editor shows it. One in a file that this one names stands at its top.
func diagnosed(d *writing.Doc, m source.Mistake, severity protocol.DiagnosticSeverity) protocol.Diagnostic {
	what := m.What
	if m.File != d.Path {
		what = m.Error()
		m.Line, m.Column, m.Width = 1, 1, len([]rune(d.Lines.At(1)))
	}
	if m.Mend != "" {
		what += "\n" + m.Mend
	}
	line := max(1, m.Line)
	return protocol.Diagnostic{Range: stretch(d.Lines, writing.Range{Line: line, From: max(1, m.Column), To: max(1, m.Column) + max(1, m.Width)}), Severity: severity, Source: "uparrot", Message: what}
}

var itemKinds = map[writing.ItemKind]protocol.CompletionItemKind{
	writing.WordItem: protocol.CompletionItemKindKeyword, writing.PortItem: protocol.CompletionItemKindInterface, writing.ValueItem: protocol.CompletionItemKindVariable,
	writing.FunctionItem: protocol.CompletionItemKindFunction, writing.RoutineItem: protocol.CompletionItemKindMethod, writing.CommandItem: protocol.CompletionItemKindText,
	writing.SettingItem: protocol.CompletionItemKindProperty, writing.PacketItem: protocol.CompletionItemKindStruct, writing.FileItem: protocol.CompletionItemKindFile, writing.KeyItem: protocol.CompletionItemKindField,
}

func (s *server) completion(_ context.Context, p *protocol.CompletionParams) (any, error) {
	open := s.docs[p.TextDocument.URI]
	if open == nil {
		return nil, fmt.Errorf("%s is not open", p.TextDocument.URI)
	}
	d := open.Doc
	if open.dirty { // it is read when nobody types
		d = d.With(open.text)
	}
	items := []protocol.CompletionItem{}
	for i, it := range d.Complete(placeOf(d.Lines, p.Position)) {
		one := protocol.CompletionItem{Label: it.Label, Detail: it.Detail, Kind: itemKinds[it.Kind], SortText: fmt.Sprintf("%04d", i), FilterText: it.Text,
			TextEdit: &protocol.TextEdit{Range: stretch(d.Lines, it.Put), NewText: it.Text}}
		if it.About != "" {
			one.Documentation = it.About
		}
		items = append(items, one)
	}
	return protocol.CompletionList{Items: items}, nil
}

func (s *server) hover(_ context.Context, p *protocol.HoverParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	text, r := d.Hover(placeOf(d.Lines, p.Position))
	if text == "" {
		return nil, nil
	}
	where := stretch(d.Lines, r)
	return protocol.Hover{Contents: protocol.MarkupContent{Kind: protocol.Markdown, Value: text}, Range: &where}, nil
}

// location is a place in a file, which may be another.
func (s *server) location(spot writing.Spot) protocol.Location {
	u, lines := uri.File(spot.File), source.Lines(nil)
	for _, d := range s.docs {
		if d.Path == spot.File {
			u, lines = d.uri, d.Lines
		}
	}
	if lines == nil {
		text, err := s.readFile(spot.File)
		if err != nil {
			return protocol.Location{URI: u}
		}
		lines = source.SplitLines(string(text))
	}
	return protocol.Location{URI: u, Range: stretch(lines, spot.Range)}
}

func (s *server) definition(_ context.Context, p *protocol.DefinitionParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	spot, ok := d.Definition(placeOf(d.Lines, p.Position))
	if !ok {
		return nil, nil
	}
	return s.location(spot), nil
}

func (s *server) references(_ context.Context, p *protocol.ReferenceParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	all := []protocol.Location{}
	for _, spot := range d.References(placeOf(d.Lines, p.Position)) {
		all = append(all, s.location(spot))
	}
	return all, nil
}

func (s *server) prepareRename(_ context.Context, p *protocol.PrepareRenameParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	name, r := d.CanRename(placeOf(d.Lines, p.Position))
	if name == "" {
		return nil, nil
	}
	return stretch(d.Lines, r), nil
}

func (s *server) rename(_ context.Context, p *protocol.RenameParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	edits, err := d.Rename(placeOf(d.Lines, p.Position), p.NewName)
	if err != nil {
		return nil, err
	}
	return s.changes(edits), nil
}

// changes are edits as an editor makes them.
func (s *server) changes(edits []writing.Edit) *protocol.WorkspaceEdit {
	w := &protocol.WorkspaceEdit{Changes: map[protocol.DocumentURI][]protocol.TextEdit{}}
	for _, e := range edits {
		at := s.location(writing.Spot{File: e.File, Range: e.Range})
		w.Changes[at.URI] = append(w.Changes[at.URI], protocol.TextEdit{Range: at.Range, NewText: e.Text})
	}
	return w
}

func (s *server) formatting(_ context.Context, p *protocol.DocumentFormattingParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	text, err := d.Tidy()
	if err != nil || text == d.text {
		return []protocol.TextEdit{}, nil //nolint:nilerr // its mistakes are told already
	}
	return []protocol.TextEdit{{Range: protocol.Range{End: protocol.Position{Line: uint32(len(d.Lines))}}, NewText: text}}, nil
}

func (s *server) codeAction(_ context.Context, p *protocol.CodeActionParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	from, to := int(p.Range.Start.Line)+1, int(p.Range.End.Line)+1
	actions := []protocol.CodeAction{}
	add := func(f writing.Fix, m source.Mistake, severity protocol.DiagnosticSeverity) {
		actions = append(actions, protocol.CodeAction{Title: f.Title, Kind: protocol.QuickFix, Diagnostics: []protocol.Diagnostic{diagnosed(d.Doc, m, severity)}, Edit: s.changes(f.Edits)})
	}
	for _, m := range d.Mistakes {
		for _, f := range d.Fixes(m) {
			if m.Line >= from && m.Line <= to {
				add(f, m, protocol.DiagnosticSeverityError)
			}
		}
	}
	for _, m := range d.Warnings {
		for _, f := range d.Fixes(m) {
			if m.Line >= from && m.Line <= to {
				add(f, m, protocol.DiagnosticSeverityWarning)
			}
		}
	}
	for i, f := range d.mends {
		if f.At >= from && f.At <= to {
			add(f, d.weak[i], protocol.DiagnosticSeverityInformation)
		}
	}
	return actions, nil
}

var symbolKinds = map[writing.ItemKind]protocol.SymbolKind{
	writing.PortItem: protocol.SymbolKindInterface, writing.ValueItem: protocol.SymbolKindVariable, writing.RoutineItem: protocol.SymbolKindFunction,
	writing.WordItem: protocol.SymbolKindEvent, writing.KeyItem: protocol.SymbolKindNamespace,
}

func (s *server) documentSymbol(_ context.Context, p *protocol.DocumentSymbolParams) (any, error) {
	d, err := s.opened(p.TextDocument.URI)
	if err != nil {
		return nil, err
	}
	all := []protocol.DocumentSymbol{}
	for _, o := range d.Outline() {
		own := stretch(d.Lines, o.Range)
		whole := own
		if o.Last > o.Line {
			whole.End = position(d.Lines, o.Last, len([]rune(d.Lines.At(o.Last)))+1)
		}
		whole.Start.Character = 0
		all = append(all, protocol.DocumentSymbol{Name: cmp.Or(strings.TrimSpace(o.Name), "?"), Detail: o.Detail, Kind: symbolKinds[o.Kind], Range: whole, SelectionRange: own})
	}
	return all, nil
}
