package toml

import (
	"io"

	"github.com/pelletier/go-toml/v2"
)

// Write writes a struct or map as TOML.
func Write(w io.Writer, v any) error { return toml.NewEncoder(w).Encode(v) }
