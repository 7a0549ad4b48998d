// Package docs are the pages of the project, as they ship inside the program.
package docs

import "embed"

// Files are the pages, by name.
//
//go:embed *.md editor/README.md
var Files embed.FS
