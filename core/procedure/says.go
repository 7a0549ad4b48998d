package procedure

import (
	"maps"
	"slices"
)

// Says is the first of some values that statements say to a module, set there or log in with, also where it
// goes through a let, a list or a routine; "" if they say none of them.
func (f *File) Says(list []Node, values map[string]bool) string {
	from := map[string]string{} // of each name, the value that it is made of
	for name := range values {
		from[name] = name
	}
	for grown := true; grown; { // a value may be handed on upwards
		before := len(from)
		for _, let := range f.Lets {
			handOn(from, let.Name, let.Expr)
		}
		for _, s := range f.Steps {
			handsOn(from, s.Body)
		}
		grown = len(from) > before
	}
	return sayIn(list, from)
}

// handOn notes that a name is made of a value, if its expression reads one.
func handOn(from map[string]string, name string, e *Expr) {
	if of := reads(from, e); of != "" && from[name] == "" {
		from[name] = of
	}
}

func handsOn(from map[string]string, list []Node) {
	for _, n := range list {
		switch n := n.(type) {
		case *Let:
			handOn(from, n.Name, n.Expr)
		case *For:
			handOn(from, n.Name, n.List)
		case *Do:
			for i, param := range n.Routine.Params {
				handOn(from, param.Name, n.Args[i].Expr)
			}
		}
		for _, b := range Bodies(n) {
			handsOn(from, b.Body)
		}
	}
}

func sayIn(list []Node, from map[string]string) string {
	for _, n := range list {
		var all []*Expr
		switch n := n.(type) {
		case *Say:
			all = exprs(n.Reads())
		case *SettingUse:
			all = []*Expr{n.Value}
		case *LogIn:
			all = []*Expr{n.Name, n.Password}
		case *Watch:
			for _, poll := range n.Polls {
				all = append(all, exprs(poll.Say.Reads())...)
			}
		}
		for _, e := range all {
			if of := reads(from, e); of != "" {
				return of
			}
		}
		for _, b := range Bodies(n) {
			if of := sayIn(b.Body, from); of != "" {
				return of
			}
		}
	}
	return ""
}

func exprs(m map[string]*Expr) (all []*Expr) {
	for _, name := range slices.Sorted(maps.Keys(m)) {
		all = append(all, m[name])
	}
	return all
}

// reads is the value that an expression reads, or what it reads is made of; "" if none.
func reads(from map[string]string, e *Expr) string {
	if e == nil {
		return ""
	}
	i := slices.IndexFunc(e.Names, func(name string) bool { return from[name] != "" })
	if i < 0 {
		return ""
	}
	return from[e.Names[i]]
}
