package portlist

import "testing"

func TestAboutPort(t *testing.T) {
	for event, want := range map[string]bool{
		"add@/devices/pci0000:00/usb1/1-1/1-1:1.0/ttyUSB0/tty/ttyUSB0\x00ACTION=add\x00SUBSYSTEM=tty\x00DEVNAME=ttyUSB0\x00": true,
		"add@/devices/pci0000:00/usb1/1-1\x00ACTION=add\x00SUBSYSTEM=usb\x00":                                                false,
		"": false,
	} {
		if aboutPort([]byte(event)) != want {
			t.Errorf("%q: %v", event, !want)
		}
	}
}
