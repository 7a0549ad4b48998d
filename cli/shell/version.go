package shell

import (
	"fmt"
	"runtime/debug"
)

// Set by the build; see Makefile.
var (
	Version = "0.1.0"
	commit  = ""
)

// VersionText is the version with the commit that the program was built from.
func VersionText() string {
	c := commit
	if c == "" {
		if info, ok := debug.ReadBuildInfo(); ok {
			for _, s := range info.Settings {
				if s.Key == "vcs.revision" {
					c = s.Value[:min(12, len(s.Value))]
				}
			}
		}
	}
	if c == "" {
		c = "unknown"
	}
	return fmt.Sprintf("%s, commit %s", Version, c)
}
