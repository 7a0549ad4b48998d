package procedure

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"uparrot/core/pattern"
)

// dump is a tree in words, without places and without the blanks that an
// expression is written with.
func dump(v reflect.Value, b *strings.Builder) {
	switch x := v.Interface().(type) {
	case Pos:
		return
	case *Expr:
		if x != nil {
			b.WriteString(x.Program.Node().String())
		}
		return
	case *pattern.Pattern:
		if x != nil {
			b.WriteString(x.String())
		}
		return
	case *pattern.Said:
		if x != nil {
			b.WriteString(x.String())
		}
		return
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			dump(v.Elem(), b)
		}
	case reflect.Struct:
		b.WriteString(v.Type().Name() + "{")
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Name != "Texts" && f.Name != "Warnings" {
				b.WriteString(f.Name + ":")
				dump(v.Field(i), b)
				b.WriteString(" ")
			}
		}
		b.WriteString("}")
	case reflect.Slice:
		for i := range v.Len() {
			dump(v.Index(i), b)
			b.WriteString(",")
		}
	case reflect.Map: // expressions by their source: they stand in the text too
		b.WriteString(fmt.Sprint(v.Len()))
	default:
		fmt.Fprint(b, v.Interface())
	}
}

func tree(f *File) string {
	var b strings.Builder
	dump(reflect.ValueOf(f), &b)
	return b.String()
}

// Tidying keeps the tree, and once more changes nothing.
func checkTidy(t *testing.T, path, text string) {
	t.Helper()
	before, err := Parse(path, text)
	if err != nil {
		return
	}
	tidied, err := Tidy(path, text)
	if err != nil {
		t.Fatalf("%q was not tidied: %v", text, err)
	}
	after, err := Parse(path, tidied)
	if err != nil {
		t.Fatalf("%q became %q: %v", text, tidied, err)
	}
	if a, b := tree(before), tree(after); a != b {
		t.Fatalf("%q became %q:\n%s\n%s", text, tidied, a, b)
	}
	if again, err := Tidy(path, tidied); err != nil || again != tidied {
		t.Fatalf("%q is tidied to %q, %v", tidied, again, err)
	}
	if strings.Count(text, "#") > strings.Count(tidied, "#") {
		t.Fatalf("%q lost a comment in %q", text, tidied)
	}
}

const untidy = `

procedure   "T  t"
about "x"
port  a :dialect at,speed 9600 ,  frame 8N1
	# about n
input n:int 1..9=7   "the  lid"
let  x=n*2


routine r( p,q )
say  p :  AT  X  
check q==1   # part of the expression
end
step "s"   tries 3
   # first
any within  2s

case hear a:  OK
do r( a,[1,2] )

# then
case nothing
  fail  "no  way"
end
if x>3
pause 5ms
else  if x == 1
pause 5ms
else
 all within 2s
hear a: {y:int}
  end
# last
end
ask operator "how: many?"  as k:int 1..9
check k==n
end
# the end
`

const tidy = `procedure "T  t"
about "x"
port a: dialect at, speed 9600, frame 8N1
# about n
input n: int 1..9 = 7 "the  lid"
let x = n*2

routine r(p, q)
    say p: AT  X
    check q==1
end

step "s" tries 3
    # first
    any within 2s
    case hear a: OK
        do r(a, [1, 2])

        # then
    case nothing
        fail "no  way"
    end
    if x>3
        pause 5ms
    else if x == 1
        pause 5ms
    else
        all within 2s
            hear a: {y:int}
        end
        # last
    end
    ask operator "how: many?" as k: int 1..9
    check k==n
end

# the end
`

func TestTidy(t *testing.T) {
	text := strings.Replace(untidy, "   # part of the expression", "", 1)
	got, err := Tidy("t", text)
	if err != nil {
		t.Fatal(err)
	}
	if got != tidy {
		t.Errorf("got\n%s\nwant\n%s", got, tidy)
	}
	checkTidy(t, "t", text)
	examples, err := filepath.Glob("../../examples/*.parrot")
	if err != nil || len(examples) < 3 {
		t.Fatal(err)
	}
	for _, path := range examples {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := Tidy(path, string(text)); err != nil || got != string(text) {
			t.Errorf("%s is not tidy: %v\n%s", path, err, got)
		}
	}
}

func FuzzTidy(f *testing.F) {
	f.Add(full)
	f.Add(untidy)
	f.Add(tidy)
	f.Fuzz(func(t *testing.T, text string) {
		if !strings.Contains(text, "phrasebook") && !strings.Contains(text, "include") { // these read files
			checkTidy(t, "fuzz", text)
		}
	})
}

// The grammar for editors knows every word of the language.
func TestEditorGrammar(t *testing.T) {
	text, err := os.ReadFile("../../docs/editor/parrot.tmLanguage.json")
	if err != nil {
		t.Fatal(err)
	}
	words := append(Words(), portWords...)
	words = append(append(words, keys(lineWords)...), keys(ourFunctions)...)
	words = append(words, "tries", "every", "within", "always", "needed", "until", "operator", "nothing", "bytes", "next", "quoted", "ipv4", "count", "p95")
	for _, w := range words {
		if !regexp.MustCompile(`\b` + w + `\b`).Match(text) {
			t.Errorf("%s is missing", w)
		}
	}
}
