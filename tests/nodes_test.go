package tests

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// parts are types of the tree that stand within statements, or outside steps.
var parts = []string{"PortDecl", "Input", "Secret", "Step", "Case", "Arm", "Routine", "Param", "Reading", "Use"}

// A statement that speaks at a port tells which, one that holds others tells them, and each is performed:
// whoever adds one and forgets that is told here, before a procedure meets it.
func TestStatements(t *testing.T) {
	t.Parallel()
	fields, methods := map[string][]string{}, map[string][]string{}
	files, err := filepath.Glob("../core/procedure/*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range files {
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.TypeSpec:
				if s, ok := n.Type.(*ast.StructType); ok {
					for _, field := range s.Fields.List {
						kind := typeName(field.Type)
						if len(field.Names) == 0 {
							fields[n.Name.Name] = append(fields[n.Name.Name], kind)
						}
						for _, name := range field.Names {
							fields[n.Name.Name] = append(fields[n.Name.Name], name.Name+" "+kind)
						}
					}
				}
			case *ast.FuncDecl:
				if n.Recv != nil {
					of := strings.TrimPrefix(typeName(n.Recv.List[0].Type), "*")
					methods[of] = append(methods[of], n.Name.Name)
				}
			}
			return true
		})
	}
	performed, err := os.ReadFile("../core/perform/statement.go")
	if err != nil {
		t.Fatal(err)
	}
	statements := 0
	for name, has := range fields {
		if !slices.Contains(has, "Pos") || slices.Contains(parts, name) {
			continue
		}
		statements++
		speaks := slices.Contains(has, "Port string") || slices.Contains(has, "Hears []*Hear") || slices.Contains(has, "Collect *Collect")
		if speaks && !slices.Contains(methods[name], "ports") {
			t.Errorf("%s speaks at a port, and no method ports of it tells which", name)
		}
		if slices.ContainsFunc(has, func(f string) bool { return strings.HasSuffix(f, " []Node") }) && !slices.Contains(methods[name], "bodies") {
			t.Errorf("%s holds statements, and no method bodies of it tells them", name)
		}
		if !regexp.MustCompile(`\*procedure\.` + name + `:`).Match(performed) {
			t.Errorf("core/perform/statement.go has no case for %s", name)
		}
	}
	if statements < 25 {
		t.Errorf("only %d statements were found", statements)
	}
}

// typeName is a type as it is written.
func typeName(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name
	case *ast.StarExpr:
		return "*" + typeName(e.X)
	case *ast.ArrayType:
		return "[]" + typeName(e.Elt)
	}
	return ""
}

// Every kind of event is shown by the dialogue that pages and texts are made of, and told to a person while
// a run goes on, or stands here as one that is not.
func TestKindsOfEvents(t *testing.T) {
	t.Parallel()
	read := func(path string) string {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	source := read("../core/record/record.go")
	of := func(part string) (names []string) {
		for _, m := range regexp.MustCompile(`(?m)^\t([A-Z]\w+) +Kind = "`).FindAllStringSubmatch(part, -1) {
			names = append(names, m[1])
		}
		return names
	}
	inRecord, watched, found := strings.Cut(source, "// Kinds that are told to whoever watches")
	if !found {
		t.Fatal("record.go does not part the kinds of a record from those that are only watched")
	}
	dialogue, account := read("../core/report/dialogue.go"), read("../cli/account/account.go")
	for _, kind := range of(inRecord) {
		if !strings.Contains(dialogue, "record."+kind) {
			t.Errorf("core/report/dialogue.go does not show %s", kind)
		}
		if !strings.Contains(source, "\t"+kind+": {") && !strings.Contains(source, ", "+kind+": {") {
			t.Errorf("%s is not among the kinds of a record", kind)
		}
	}
	// What came and went is told as words that were said and heard; the head, the ends and frames are not told.
	silent := []string{"Head", "Open", "Close", "In", "Out", "Passed", "Begin", "Frame", "Result", "Verdict", "End", "Progress"}
	all := append(of(inRecord), of(watched)...)
	for _, kind := range all {
		if strings.Contains(account, "record."+kind+":") == slices.Contains(silent, kind) {
			t.Errorf("cli/account/account.go: %s", kind)
		}
	}
	if len(all) < 28 {
		t.Errorf("only %d kinds were found: %v", len(all), all)
	}
}
