package portlist

import (
	"fmt"
	"strconv"
	"strings"

	"uparrot/core/text"
)

// partOfPath is one step of a location path, such as PCI(1400) or USB(2).
var partOfPath = text.Regexp(`^([A-Z]+)\(([0-9A-Fa-f]+)\)$`)

// windowsSocket is the socket that a location path of Windows leads to: the number of the host
// controller on its bus, the ports of hubs on the way, and the interface behind a colon. For
// PCIROOT(0)#PCI(1400)#USBROOT(0)#USB(2)#USB(1)#USBMI(1) that is 1400-2.1:1. It is "" where the
// path is not one of USB.
func windowsSocket(path string) string {
	controller, iface := "0", ""
	var ports []string
	for part := range strings.SplitSeq(path, "#") {
		m := partOfPath().FindStringSubmatch(part)
		if m == nil {
			continue
		}
		switch m[1] {
		case "PCI":
			controller = m[2]
		case "USB":
			ports = append(ports, strings.TrimLeft(m[2], "0"))
		case "USBMI":
			iface = strings.TrimLeft(m[2], "0")
		}
	}
	if len(ports) == 0 {
		return ""
	}
	socket := controller + "-" + strings.Join(ports, ".")
	if iface != "" {
		socket += ":" + iface
	}
	return socket
}

// ofCOM takes the name of the port off the name that Windows shows of a device.
func ofCOM(friendly, name string) string {
	return strings.TrimSpace(strings.TrimSuffix(friendly, "("+name+")"))
}

// macSocket is the socket that a location number of macOS leads to: the bus, then the ports of
// hubs on the way, a hexadecimal digit each. For 0x14210000 that is 20-2.1.
func macSocket(location uint64) string {
	if location == 0 {
		return ""
	}
	bus := location >> 24
	var ports []string
	for _, digit := range strconv.FormatUint(location&0xffffff|0x1000000, 16)[1:] {
		if digit == '0' {
			break
		}
		n, _ := strconv.ParseUint(string(digit), 16, 8) // it is a digit
		ports = append(ports, strconv.FormatUint(n, 10))
	}
	if len(ports) == 0 {
		return fmt.Sprint(bus)
	}
	return fmt.Sprintf("%d-%s", bus, strings.Join(ports, "."))
}

// serialOf is the serial number in what Windows calls a device: BUS\VID_1209&PID_0001\LW-0010, or
// as some drivers have it BUS\VID_1209+PID_0001+LW0010\0000. It is "" where Windows has made up
// something in its place, which has a & in it.
func serialOf(id string) string {
	parts := strings.Split(id, `\`)
	if len(parts) != 3 || !strings.HasPrefix(parts[1], "VID_") {
		return ""
	}
	if joined := strings.Split(parts[1], "+"); len(joined) == 3 {
		return joined[2]
	}
	if strings.Contains(parts[2], "&") || strings.Contains(parts[1], "&MI_") {
		return ""
	}
	return parts[2]
}
