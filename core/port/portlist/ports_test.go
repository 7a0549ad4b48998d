package portlist

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uparrot/core/port"
)

// machine is the root directory of a made-up Linux system.
type machine struct {
	t    testing.TB
	root string
}

func (m machine) file(path, text string) {
	m.t.Helper()
	full := filepath.Join(m.root, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		m.t.Fatal(err)
	}
	if err := os.WriteFile(full, []byte(text+"\n"), 0o644); err != nil {
		m.t.Fatal(err)
	}
}

func (m machine) link(path, target string) {
	m.t.Helper()
	full := filepath.Join(m.root, path)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		m.t.Fatal(err)
	}
	if strings.HasPrefix(target, "/sys") {
		target = filepath.Join(m.root, target)
	}
	if err := os.Symlink(target, full); err != nil {
		m.t.Fatal(err)
	}
}

// adapter plugs an adapter into a socket and gives it a port.
func (m machine) adapter(name, socket, iface, product, serial string) {
	usb := "/sys/devices/pci0000:00/usb1/" + socket
	dev := fmt.Sprintf("%s/%s:1.%s/%s", usb, socket, iface, name)
	if _, err := os.Stat(filepath.Join(m.root, usb)); err != nil {
		m.file(usb+"/idVendor", "1209")
		m.file(usb+"/manufacturer", "Larkfell Works")
		m.file(usb+"/product", product)
		if serial != "" {
			m.file(usb+"/serial", serial)
		}
	}
	m.file(fmt.Sprintf("%s/%s:1.%s/bInterfaceNumber", usb, socket, iface), "0"+iface)
	m.file(dev+"/latency_timer", "16")
	m.file("/sys/bus/usb-serial/drivers/larkserial/bind", "")
	m.link(dev+"/driver", "/sys/bus/usb-serial/drivers/larkserial")
	m.link("/sys/class/tty/"+name+"/device", dev)
	m.file("/dev/"+name, "")
}

func newMachine(t testing.TB) machine {
	m := machine{t, t.TempDir()}
	m.file("/sys/class/tty/console/active", "tty0 ttyS0")
	m.file("/sys/class/tty/tty0/dev", "4:0")
	for i, typ := range []string{"4", "0", "4"} {
		name := fmt.Sprintf("ttyS%d", i)
		m.file("/sys/devices/platform/serial8250/"+name+"/x", "")
		m.link("/sys/class/tty/"+name+"/device", "/sys/devices/platform/serial8250/"+name)
		m.file("/sys/class/tty/"+name+"/type", typ)
		m.file("/dev/"+name, "")
	}
	m.adapter("ttyUSB10", "1-1.2", "0", "Line Adapter", "LW-0010")
	m.adapter("ttyUSB2", "1-1.1", "0", "Line Adapter", "LW-0002")
	m.adapter("ttyUSB3", "1-3", "0", "Twin Adapter", "")
	m.adapter("ttyUSB4", "1-3", "1", "Twin Adapter", "")
	m.file("/proc/812/comm", "agetty")
	m.link("/proc/812/fd/0", "/dev/ttyS2")
	m.file("/proc/4711/comm", "logger")
	m.link("/proc/4711/fd/5", "/dev/ttyUSB2")
	m.link("/proc/4711/fd/6", "/dev/ttyUSB2")
	m.file("/proc/self/comm", "x")
	return m
}

func TestListBelow(t *testing.T) {
	m := newMachine(t)
	all, err := listBelow(m.root)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range all {
		back := 0
		if p.HoldBack != nil {
			back = *p.HoldBack
		}
		got = append(got, fmt.Sprintf("%s|%s|%s|%s|%s|%s|%v|console=%v|free=%v|%d", p.Path, p.Make, p.Product, p.Serial, p.Socket, p.Driver, p.HeldBy, p.Console, p.Free, back))
	}
	want := []string{
		"/dev/ttyS0||||||[]|console=true|free=false|0",
		"/dev/ttyS2||||||[agetty (process 812)]|console=true|free=false|0",
		"/dev/ttyUSB2|Larkfell Works|Line Adapter|LW-0002|1-1.1|larkserial|[logger (process 4711)]|console=false|free=false|16",
		"/dev/ttyUSB3|Larkfell Works|Twin Adapter||1-3|larkserial|[]|console=false|free=true|16",
		"/dev/ttyUSB4|Larkfell Works|Twin Adapter||1-3:1|larkserial|[]|console=false|free=true|16",
		"/dev/ttyUSB10|Larkfell Works|Line Adapter|LW-0010|1-1.2|larkserial|[]|console=false|free=true|16",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if !strings.Contains(all[2].Hint, "end logger (process 4711)") || !strings.Contains(all[0].Hint, "console") {
		t.Errorf("hints: %q, %q", all[2].Hint, all[0].Hint)
	}
	if _, err := listBelow(filepath.Join(m.root, "none")); err == nil {
		t.Error("a system without sysfs was listed")
	}
	for _, c := range []struct{ address, path, err string }{
		{"serial:LW-0010", "/dev/ttyUSB10", ""},
		{"serial:lw-0002", "/dev/ttyUSB2", ""},
		{"socket:1-3:1", "/dev/ttyUSB4", ""},
		{"socket:1-3", "/dev/ttyUSB3", ""},
		{"serial:LW-9", "", "there are LW-0002 (/dev/ttyUSB2), LW-0010 (/dev/ttyUSB10)"},
		{"product:line adapter", "", "2 ports: /dev/ttyUSB2 serial LW-0002 socket 1-1.1; /dev/ttyUSB10 serial LW-0010 socket 1-1.2"},
		{"product:", "", "no port has"},
	} {
		a, err := port.ParseAddress(c.address)
		if err != nil {
			t.Fatal(err)
		}
		path, err := Resolve(a, all)
		if err == nil && path.String() != c.path || c.err == "" != (err == nil) || err != nil && !strings.Contains(err.Error(), c.err) {
			t.Errorf("%s: %q, %v", c.address, path, err)
		}
	}
	if _, err := Resolve(port.Address{Scheme: port.BySerial, Where: "x"}, nil); err == nil || !strings.Contains(err.Error(), "no adapter is plugged in") {
		t.Error(err)
	}
}

func TestDifferences(t *testing.T) {
	m := newMachine(t)
	before, err := listBelow(m.root)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(filepath.Join(m.root, "sys/class/tty/ttyUSB3/device")); err != nil {
		t.Fatal(err)
	}
	m.adapter("ttyUSB5", "1-4", "0", "Line Adapter", "LW-0005")
	after, err := listBelow(m.root)
	if err != nil {
		t.Fatal(err)
	}
	all := differences(before, after)
	if len(all) != 2 || !all[0].Appeared || all[0].Port.Serial != "LW-0005" || all[1].Appeared || all[1].Port.Path != "/dev/ttyUSB3" {
		t.Errorf("%+v", all)
	}
}

// BenchmarkList lists 500 ports, beside reading one file of each and nothing
// else.
func BenchmarkList(b *testing.B) {
	m := machine{b, b.TempDir()}
	for i := range 500 {
		m.adapter(fmt.Sprintf("ttyUSB%d", i), fmt.Sprintf("1-%d", i), "0", "Line Adapter", fmt.Sprintf("LW-%04d", i))
	}
	b.Run("list", func(b *testing.B) {
		for b.Loop() {
			if all, err := listBelow(m.root); err != nil || len(all) != 500 {
				b.Fatal(len(all), err)
			}
		}
	})
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			for i := range 500 {
				if _, err := os.ReadFile(fmt.Sprintf("%s/sys/devices/pci0000:00/usb1/1-%d/serial", m.root, i)); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
}
