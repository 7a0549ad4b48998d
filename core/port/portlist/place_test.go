package portlist

import (
	"fmt"
	"strings"
	"testing"
)

// Where an adapter is plugged in, and its number, as each system tells them.
func TestPlaces(t *testing.T) {
	for path, want := range map[string]string{
		"PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(2)":                     "1400-2",
		"PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(2)#USB(1)#USBMI(1)":     "1400-2.1:1",
		"PCIROOT(0)#PCI(0801)#PCI(0003)#USBROOT(0)#USB(12)#USBMI(0)": "0003-12",
		"PCIROOT(0)#PCI(1F00)":                                       "", "": "", "ACPI(_SB_)#ACPI(UAR1)": "",
	} {
		if got := windowsSocket(path); got != want {
			t.Errorf("%s: %q, want %q", path, got, want)
		}
	}
	for id, want := range map[string]string{
		`USB\VID_1209&PID_0001\LW-0010`:          "LW-0010",
		`USB\VID_1209&PID_0001\5&2A3B4C5D&0&2`:   "", // made up by the system
		`USB\VID_1209&PID_0001&MI_01\LW-0010`:    "", // of a part: the whole has it
		`LARKBUS\VID_1209+PID_0001+LW0010A\0000`: "LW0010A",
		`ACPI\PNP0501\1`:                         "",
		`ROOT\PORTS\0000`:                        "",
		`USB\VID_1209&PID_0001\LW-0010\more`:     "",
		"":                                       "",
	} {
		if got := serialOf(id); got != want {
			t.Errorf("%s: %q, want %q", id, got, want)
		}
	}
	for location, want := range map[uint64]string{0: "", 0x14200000: "20-2", 0x14210000: "20-2.1", 0x142a3000: "20-2.10.3", 0x02000000: "2", 0x14123456: "20-1.2.3.4.5.6"} {
		if got := macSocket(location); got != want {
			t.Errorf("%#x: %q, want %q", location, got, want)
		}
	}
	if got := ofCOM("Line Adapter (COM7)", "COM7"); got != "Line Adapter" {
		t.Error(got)
	}
}

// adapter is what ioreg writes of an adapter, with its serial ports below it.
func adapter(keys string, ports ...string) string {
	var below strings.Builder
	for _, p := range ports {
		fmt.Fprintf(&below, `<dict><key>IOObjectClass</key><string>IOUSBHostInterface</string><key>bInterfaceNumber</key><integer>0</integer><key>IORegistryEntryChildren</key><array>
			<dict><key>IOObjectClass</key><string>LarkfellSerialDriver</string><key>IORegistryEntryChildren</key><array>
			<dict><key>IOObjectClass</key><string>IOSerialBSDClient</string><key>IOCalloutDevice</key><string>/dev/cu.%s</string><key>IODialinDevice</key><string>/dev/tty.%s</string></dict>
			</array></dict></array></dict>`, p, p)
	}
	return "<dict><key>IOObjectClass</key><string>IOUSBHostDevice</string>" + keys + "<key>IORegistryEntryChildren</key><array>" + below.String() + "</array></dict>"
}

// The listing of macOS is read: adapters with one port and with two, behind a hub, without a number,
// and what is no port at all.
func TestRegistryOfMac(t *testing.T) {
	one := adapter(`<key>USB Vendor Name</key><string>Larkfell Works</string><key>USB Product Name</key><string>Line Adapter</string><key>USB Serial Number</key><string>LW-0010</string><key>locationID</key><integer>338755584</integer>`, "usbserial-LW-0010")
	two := adapter(`<key>kUSBVendorString</key><string>Larkfell Works </string><key>kUSBProductString</key><string>Twin Adapter</string><key>locationID</key><integer>337641472</integer>`, "usbmodem1", "usbmodem3")
	mouse := adapter(`<key>USB Product Name</key><string>Pointer</string><key>locationID</key><integer>1</integer>`)
	hub := `<dict><key>IOObjectClass</key><string>IOUSBHostDevice</string><key>USB Product Name</key><string>Hub</string><key>USB Serial Number</key><string>HUB-1</string><key>locationID</key><integer>338690048</integer><key>IORegistryEntryChildren</key><array>` + one + `</array></dict>`
	list := `<?xml version="1.0" encoding="UTF-8"?><!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd"><plist version="1.0"><array>` + hub + one + two + mouse + `</array></plist>`
	all, err := fromRegistry([]byte(list))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range all {
		got = append(got, strings.Join([]string{p.Path, p.Make, p.Product, p.Serial, p.Socket, p.Driver}, "|"))
	}
	want := []string{
		"/dev/cu.usbserial-LW-0010|Larkfell Works|Line Adapter|LW-0010|20-3.1|LarkfellSerialDriver",
		"/dev/cu.usbmodem1|Larkfell Works|Twin Adapter||20-2|LarkfellSerialDriver",
		"/dev/cu.usbmodem3|Larkfell Works|Twin Adapter||20-2:1|LarkfellSerialDriver",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if all, err := fromRegistry([]byte(" \n")); err != nil || all != nil {
		t.Errorf("no device at all: %v, %v", all, err)
	}
	if _, err := fromRegistry([]byte("no list")); err == nil {
		t.Error("what is no list was read")
	}
}

// A listing that is cut or changed is read or refused, and nothing else.
func FuzzRegistryOfMac(f *testing.F) {
	f.Add([]byte(`<plist version="1.0"><array>` + adapter(`<key>locationID</key><integer>338755584</integer>`, "usbserial-1") + `</array></plist>`))
	f.Add([]byte("bplist00"))
	f.Fuzz(func(t *testing.T, list []byte) {
		all, err := fromRegistry(list)
		for _, p := range all {
			if err != nil || p.Path == "" {
				t.Errorf("%+v, %v", p, err)
			}
		}
	})
}
