package procedure

import (
	"cmp"
	"slices"
	"strings"
)

// Use is a name as it stands in the text: where it gets its meaning, or where it is used.
type Use struct {
	Pos
	Name  string
	Kind  UseKind
	Gives bool   // here it gets its meaning, or a value
	Type  string // of a value, where that is known: int, num, text
	What  string // what it is, in words, such as "an input"
	Port  string // whose setting or packet it is
	Path  string // of a file

	Fields []string // of a packet: what is a value once it was heard

	bind int // uses with the same root are of the same thing
}

// UseKind is what a name stands for.
type UseKind int

// The kinds.
const (
	PortUse UseKind = iota
	ValueUse
	RoutineUse
	SettingUseOf
	PacketUseOf
	FileUse
)

// bindings tells which uses of names are of the same thing.
type bindings struct {
	uses  []Use
	roots []int // of each thing; one that was found to be the same as another leads to it
}

func (b *bindings) fresh() int {
	b.roots = append(b.roots, len(b.roots))
	return len(b.roots) - 1
}

func (b *bindings) root(i int) int {
	for b.roots[i] != i {
		i = b.roots[i]
	}
	return i
}

// same has two things be one.
func (b *bindings) same(i, j int) { b.roots[b.root(i)] = b.root(j) }

// note files a use whose name stands in the text at its place.
func (p *parser) note(u Use) {
	text := []rune(p.file.Text(u.Pos))
	if from := u.Column - 1; u.Line > 0 && from >= 0 && from+len([]rune(u.Name)) <= len(text) && string(text[from:from+len([]rune(u.Name))]) == u.Name {
		u.Width = len([]rune(u.Name))
		p.names.uses = append(p.names.uses, u)
	}
}

// portUse notes where a port's name stands.
func (p *parser) portUse(name string, at Pos) {
	if v := p.values.values[name]; v != nil {
		p.note(Use{Pos: at, Name: name, Kind: PortUse, What: v.what, bind: v.bind})
	}
}

// sortUses puts the uses in the order of the text, each once.
func (f *File) sortUses() {
	slices.SortStableFunc(f.Uses, func(a, b Use) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column)
	})
	f.Uses = slices.CompactFunc(f.Uses, func(a, b Use) bool { return a.Pos == b.Pos && a.Name == b.Name })
}

// UseAt is the name that stands at a place; nil if none does.
func (f *File) UseAt(file string, line, column int) *Use {
	for i := range f.Uses {
		if u := &f.Uses[i]; u.File == file && u.Line == line && u.Column <= column && column <= u.Column+u.Width {
			return u
		}
	}
	return nil
}

// Same are all uses of the same thing, itself among them.
func (f *File) Same(u *Use) (all []Use) {
	for _, other := range f.Uses {
		if other.Name == u.Name && other.bind == u.bind && (u.bind > 0 || other.Kind == u.Kind && other.Port == u.Port) {
			all = append(all, other)
		}
	}
	return all
}
