//go:build linux && amd64

package systems

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// freePort is a port of this machine's own network at which nothing listens.
func freePort(t *testing.T) int {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	return ln.Addr().(*net.TCPAddr).Port
}

// On small machines the program does what it does here. The emulation does not know the calls by
// which settings of a terminal are read, so the stand-ins are served in the network.
func TestSmallMachines(t *testing.T) {
	t.Parallel()
	for _, m := range []struct{ arch, emulator string }{{"armv7", "qemu-arm-static"}, {"arm64", "qemu-aarch64-static"}} {
		t.Run(m.arch, func(t *testing.T) {
			t.Parallel()
			o := &other{t: t, dir: t.TempDir()}
			o.call = []string{need(t, m.emulator, "qemu-user-static"), built(t, "linux", m.arch)}
			o.files()
			bench, err := os.ReadFile(filepath.Join(o.dir, "larkfell.toml"))
			if err != nil {
				t.Fatal(err)
			}
			served := string(bench)
			for _, name := range []string{"valley", "summit"} {
				head := "[port." + name + "]\n"
				served = strings.Replace(served, head, fmt.Sprintf("%sat = \"rfc2217://127.0.0.1:%d\"\n", head, freePort(t)), 1)
			}
			if err := os.WriteFile(filepath.Join(o.dir, "larkfell.toml"), []byte(served), 0o644); err != nil {
				t.Fatal(err)
			}
			o.checks("anyradio.parrot", "bittern.parrot", "boards.parrot", "brambling.parrot", "commission.parrot", "curlew.parrot", "fieldfare.parrot", "greeting.parrot", "plover.parrot", "siskin.parrot", "twite.parrot")
			o.live("larkfell.toml")
			o.commissions("valley.record")
			o.talks()
		})
	}
}
