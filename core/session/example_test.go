package session_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"uparrot/core/bench"
	"uparrot/core/procedure"
	"uparrot/core/record"
	"uparrot/core/session"
	"uparrot/core/sim/families"
)

const (
	exampleBench     = "[port.gates]\n[port.gates.standin]\nfamily = \"redshank\"\nspeed = 9600\nsettings = { board = 7 }\n"
	exampleProcedure = "procedure \"Who\"\nport gates: dialect lines, speed 9600, ending lf\nstep \"the board answers\"\n    say: who\n    hear: redshank board 7\nend\n"
)

// A procedure is performed on a stand-in, its steps are told as they end, and it
// leaves a record.
func Example() {
	dir, err := os.MkdirTemp("", "larkfell-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	in := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{"gates.toml": exampleBench, "who.parrot": exampleProcedure} {
		if err := os.WriteFile(in(name), []byte(text), 0o600); err != nil {
			fmt.Println(err)
			return
		}
	}
	table, err := bench.Read(in("gates.toml"), families.All.Names())
	if err != nil {
		fmt.Println(err)
		return
	}
	live, err := session.Wake(table, table.LinkDir(), nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer live.End()
	file, err := procedure.Read(in("who.parrot"))
	if err != nil {
		fmt.Println(err)
		return
	}
	who := session.Procedure{
		File:  file,
		Ports: &session.Ports{Bench: table},
		Keep:  session.Keep{Record: in("who.record"), NoLedger: true, Tool: "example"},
		Watch: func(map[string]*bench.Station) func(record.Event) {
			return func(e record.Event) {
				if e.Kind == record.Step && e.Verdict != "" {
					fmt.Println(e.Step+":", e.Verdict)
				}
			}
		},
	}
	res, err := who.Do(context.Background())
	fmt.Println(res.Verdict, err)
	_, err = os.Stat(in("who.record"))
	fmt.Println("a record is there:", err == nil)
	// Output:
	// the board answers: passed
	// passed <nil>
	// a record is there: true
}
