module uparrot

go 1.26.8

require (
	github.com/charmbracelet/x/ansi v0.11.9
	github.com/creack/pty v1.1.24
	go.bug.st/serial v1.8.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/BurntSushi/toml v1.6.0 // indirect
	github.com/clipperhouse/displaywidth v0.11.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/lucasb-eyer/go-colorful v1.4.1 // indirect
	github.com/mattn/go-runewidth v0.0.27 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
