package portlist

import (
	"cmp"
	"fmt"
	"strings"

	"howett.net/plist"
)

// node is one entry of the registry of devices of macOS, as its own tool (ioreg -a -l) writes it.
type node struct {
	Class    string `plist:"IOObjectClass"`
	Callout  string `plist:"IOCalloutDevice"` // where a program calls out: it does not wait for a carrier
	Make     string `plist:"USB Vendor Name"`
	Product  string `plist:"USB Product Name"`
	Serial   string `plist:"USB Serial Number"`
	Make2    string `plist:"kUSBVendorString"` // newer systems
	Product2 string `plist:"kUSBProductString"`
	Serial2  string `plist:"kUSBSerialNumberString"`
	Location uint64 `plist:"locationID"`
	Children []node `plist:"IORegistryEntryChildren"`
}

// fromRegistry are the serial ports in what ioreg has written of USB devices and all below them.
func fromRegistry(list []byte) ([]Entry, error) {
	var roots []node
	if len(strings.TrimSpace(string(list))) == 0 { // no such device
		return nil, nil
	}
	if _, err := plist.Unmarshal(list, &roots); err != nil {
		return nil, fmt.Errorf("read the list of devices: %w", err)
	}
	var all []Entry
	seen := map[string]bool{}
	for _, n := range roots {
		n.collect(Entry{}, func(p Entry) {
			if !seen[p.Path] { // a hub is listed with what is plugged into it, and that by itself
				seen[p.Path] = true
				all = append(all, p)
			}
		})
	}
	several := map[string]int{}
	for i := range all {
		several[all[i].Socket]++
		if n := several[all[i].Socket]; n > 1 && all[i].Socket != "" { // an adapter with several ports
			all[i].Socket += fmt.Sprintf(":%d", n-1)
		}
	}
	return all, nil
}

// collect gives the ports at and below a node to f, each with what is known of the device that it
// belongs to.
func (n node) collect(of Entry, f func(Entry)) {
	n.Make, n.Product, n.Serial = cmp.Or(n.Make, n.Make2), cmp.Or(n.Product, n.Product2), cmp.Or(n.Serial, n.Serial2)
	if n.Class == "IOUSBHostDevice" || n.Product != "" {
		of = Entry{Make: strings.TrimSpace(n.Make), Product: strings.TrimSpace(n.Product), Serial: n.Serial, Socket: macSocket(n.Location)}
	}
	if strings.HasSuffix(n.Class, "Serial") || strings.Contains(n.Class, "SerialDriver") || strings.Contains(n.Class, "CDCData") {
		of.Driver = n.Class
	}
	if n.Callout != "" {
		of.Path = n.Callout
		f(of)
		of.Path = ""
	}
	for _, c := range n.Children {
		c.collect(of, f)
	}
}
