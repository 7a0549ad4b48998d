package batch_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"uparrot/core/batch"
	"uparrot/core/bench"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/sim/families"
)

// files are a bench with one relay board, a procedure, and the units that the board is to be.
var files = map[string]string{
	"gates.toml": "[port.gates]\n[port.gates.standin]\nfamily = \"redshank\"\nspeed = 9600\nsettings = { board = 7 }\n",
	"who.parrot": "procedure \"Who\"\ninput board: int\nport gates: dialect lines, speed 9600, ending lf\n" +
		"step \"the board answers\"\n    say: who\n    hear: redshank board {=board}\nend\n",
	"units.csv": "unit,board\nLK-0017,7\nLK-0018,8\n",
}

// A procedure is performed at one unit after another; the second is not the board that was expected.
func Example() {
	dir, err := os.MkdirTemp("", "larkfell-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	in := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range files {
		if err := os.WriteFile(in(name), []byte(text), 0o600); err != nil {
			fmt.Println(err)
			return
		}
	}
	fmt.Println(both(in))
	// Output:
	// LK-0017 passed
	// LK-0018 failed
	// failed <nil>
}

func both(in func(string) string) (string, error) {
	table, err := bench.Read(in("gates.toml"), families.All.Names())
	if err != nil {
		return "", err
	}
	live, err := session.Wake(table, table.LinkDir(), nil)
	if err != nil {
		return "", err
	}
	defer live.End()
	file, err := procedure.Read(in("who.parrot"))
	if err != nil {
		return "", err
	}
	b := batch.Batch{
		Each: session.Procedure{
			File: file, Ports: &session.Ports{Bench: table},
			Keep:  session.Keep{Ledger: in("ledger.sqlite"), Tool: "example"},
			Watch: func(map[string]*bench.Station) func(record.Event) { return func(record.Event) {} },
		},
		From: in("units.csv"), Next: "none",
		Person:  func(*batch.Slot) batch.Asker { return nil }, // nobody sits there
		Prepare: func(*batch.Slot, *session.Procedure) error { return nil },
		Tell:    func(*batch.Slot, string) {},
	}
	ctx := context.Background()
	if err := b.Open(ctx); err != nil {
		return "", err
	}
	if err := b.Do(ctx); err != nil {
		return "", err
	}
	if err := b.Close(ctx); err != nil {
		return "", err
	}
	for _, r := range b.Results() {
		fmt.Println(r.Row.Unit, r.Verdict)
	}
	return string(b.Worst()), nil
}
