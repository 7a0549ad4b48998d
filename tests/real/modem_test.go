//go:build linux

package real

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// modems starts two software modems that can call each other.
func modems(t *testing.T) (near, far string) {
	t.Helper()
	tool := need(t, "iaxmodem", "iaxmodem")
	dir := t.TempDir()
	_, one := free(t)
	_, other := free(t)
	for _, m := range [][3]string{{"near", one, other}, {"far", other, one}} {
		config := write(t, m[0], fmt.Sprintf("device %s/%s\nport %s\nrefresh 0\nserver 127.0.0.1:%s\npeername %s\nsecret x\ncidname %s\ncidnumber 100\ncodec slinear\n", dir, m[0], m[1], m[2], m[0], m[0]))
		peer(t, tool, "../.."+config) // it looks for it from a folder of its own
	}
	near, far = filepath.Join(dir, "near"), filepath.Join(dir, "far")
	for _, path := range []string{near, far} {
		eventually(t, path, func() bool { _, err := os.Stat(path); return err == nil })
	}
	return near, far
}

const modemPorts = "port near: dialect at, ending cr\nport far: dialect at, ending cr"

// A modem after V.250: settings, refusals, results as numbers and none.
func TestModemAlone(t *testing.T) {
	near, far := modems(t)
	perform(t, steps(modemPorts,
		"say near: AT / say far: AT",
		"say near: ATS8=5 / say near: ATS8? / hear near: 005 / say near: ATS8=2 / say near: ATS8? / hear near: 002",
		"say near: ATS8? / hear near within 40s: 003",
		"say near: AT+FCLASS=9",
		"say near: ATV0 / say near: ATS8? / hear near: 002",
		"say near: AT+FCLASS=9",
		"say near: ATV1 / hear near: OK",
		"say near: ATQ1 / say near: ATS8? / hear near: 002 / say near: ATE0",
		"say near: ATQ0 / say near: ATE1 / say near: AT / hear near: OK"),
		[]string{"near=" + near, "far=" + far},
		"passed", "passed", "failed wanted 003", "failed was refused with ERROR",
		"passed", "failed was refused with 4 (ERROR)", "passed", "passed", "passed")
}

// A call between two: one that is refused, and one that comes about.
func TestModemsInACall(t *testing.T) {
	near, far := modems(t)
	perform(t, steps(modemPorts,
		"say near answer later: ATD100 / hear far within 20s: RING",
		"say far: ATH / hear near within 30s: CONNECT"),
		[]string{"near=" + near, "far=" + far}, "passed", "failed said ATD100, was refused with BUSY")
	near, far = modems(t)
	perform(t, steps(modemPorts,
		"say near: AT+FCLASS=1 / say far: AT+FCLASS=1",
		"say near answer later: ATD100 / hear far within 20s: RING",
		"say far answer later: ATA / all within 60s / hear near: CONNECT / hear far: CONNECT / end"),
		[]string{"near=" + near, "far=" + far}, "passed", "passed", "passed")
}
