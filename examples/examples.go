// Package examples holds the Larkfell cableway: a bench of two radios, their
// phrasebook and the procedures that put them into service.
package examples

import "embed"

// Files are the example files, by name.
//
//go:embed *.toml *.parrot *.csv
var Files embed.FS
