package source

import "testing"

// What a file is shows at its beginning, or in a line that only such a file has.
func TestKindOf(t *testing.T) {
	for text, want := range map[string]Kind{
		"procedure \"P\"\n":                               Procedure,
		"# a part\nroutine x()\nend\nstep \"s\"\n":        Procedure,
		"port radio: dialect at\n":                        Procedure,
		"port = 1\n":                                      Unknown,
		"# a bench\n\n[port.valley]\n":                    Bench,
		"[air]\nloss = \"2%\"\n":                          Bench,
		"[ports]\nx = 1\n":                                Unknown,
		"about = \"x\"\nfamily = \"Dunlin\"\n":            Phrasebook,
		"[[setting]]\nname = \"a\"\n":                     Phrasebook,
		"[valley]\nfamily = \"Dunlin\"\n":                 Unknown,
		"# Settings of modules, as ...\n[valley]\n":       Settings,
		"unit,address\nLK-1,5\n":                          Units,
		"\ufeffaddress;unit;x\n":                          Units,
		"{\"unit\":\"LK-1\"}\n":                           Units,
		"{\"t\":\"2026-11-26\",\"kind\":\"record\"}\n":    Record,
		"{\"t\":\"2026-11-26\",\"kind\":\"in\"}\n":        Unknown,
		"SQLite format 3\x00\x10":                         Ledger,
		"\xff\xfep\x00r\x00":                              Wide,
		"\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\xff\xfe": Binary,
		"a\x00b": Unknown,
		"":       Unknown,
		"say radio: AT\nunit x\nfamily of radios\n[port.\n": Bench,
	} {
		if got := KindOf(text); got != want {
			t.Errorf("%q is %q, wanted %q", text, got, want)
		}
	}
}
