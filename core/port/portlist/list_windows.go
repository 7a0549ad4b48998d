package portlist

import (
	"maps"
	"slices"
	"strings"
	"unsafe"

	"go.bug.st/serial"
	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uparrot/core/port"
)

// List lists the ports of this machine as the system's list of devices tells. Nothing is opened.
func List() ([]Entry, error) {
	names, err := serial.GetPortsList()
	if err != nil {
		return nil, err
	}
	found := map[string]*Entry{}
	for _, n := range names {
		found[n] = &Entry{Path: n}
	}
	if err := describeAll(found); err != nil {
		return nil, err
	}
	holders := port.Holders(slices.Collect(maps.Keys(found)))
	var all []Entry
	for _, p := range found {
		p.HeldBy = []Holder{}
		for _, h := range holders[p.Path] {
			p.HeldBy = append(p.HeldBy, Holder(h))
		}
		p.judge(p.Path)
		all = append(all, *p)
	}
	sortPorts(all)
	return all, nil
}

// busDescription is what the device itself calls itself: DEVPKEY_Device_BusReportedDeviceDesc.
var busDescription = windows.DEVPROPKEY{FmtID: windows.DEVPROPGUID{Data1: 0x540b947e, Data2: 0x8b40, Data3: 0x45bc, Data4: [8]byte{0xa8, 0xa2, 0x6a, 0x0b, 0x89, 0x4c, 0xbd, 0xa2}}, PID: 4}

// describeAll adds what the list of devices knows of ports.
func describeAll(found map[string]*Entry) error {
	guids, err := windows.SetupDiClassGuidsFromNameEx("Ports", "")
	if err != nil {
		return err
	}
	for _, guid := range guids {
		set, err := windows.SetupDiGetClassDevsEx(&guid, "", 0, windows.DIGCF_PRESENT, 0, "")
		if err != nil {
			return err
		}
		for i := 0; ; i++ {
			device, err := windows.SetupDiEnumDeviceInfo(set, i)
			if err != nil {
				break // that was the last
			}
			detail(set, device, found)
		}
		_ = windows.SetupDiDestroyDeviceInfoList(set) // it was only read
	}
	return nil
}

// detail adds what is known of the device of a port.
func detail(set windows.DevInfo, device *windows.DevInfoData, found map[string]*Entry) {
	h, err := windows.SetupDiOpenDevRegKey(set, device, windows.DICS_FLAG_GLOBAL, 0, windows.DIREG_DEV, windows.KEY_READ)
	if err != nil {
		return
	}
	key := registry.Key(h)
	defer key.Close()
	name, _, err := key.GetStringValue("PortName")
	if err != nil || !strings.HasPrefix(name, "COM") { // a printer's
		return
	}
	p := found[name]
	if p == nil {
		p = &Entry{Path: name}
		found[name] = p
	}
	p.Make, p.Driver = property(set, device, windows.SPDRP_MFG), property(set, device, windows.SPDRP_SERVICE)
	p.Product = ofCOM(property(set, device, windows.SPDRP_FRIENDLYNAME), name)
	if own, err := windows.SetupDiGetDeviceProperty(set, device, &busDescription); err == nil {
		if s, ok := own.(string); ok && s != "" {
			p.Product = s
		}
	}
	if id, err := windows.SetupDiGetDeviceInstanceId(set, device); err == nil {
		p.Serial = serialOf(id)
	}
	p.Socket = windowsSocket(property(set, device, windows.SPDRP_LOCATION_PATHS))
	if p.Serial == "" || p.Socket == "" {
		above(device.DevInst, p)
	}
	if p.Socket == "" {
		p.Socket = property(set, device, windows.SPDRP_LOCATION_INFORMATION)
	}
	if ms, _, err := key.GetIntegerValue("LatencyTimer"); err == nil {
		back := int(ms)
		p.HoldBack = &back
	}
}

var (
	cfgmgr      = windows.NewLazySystemDLL("cfgmgr32.dll")
	getParent   = cfgmgr.NewProc("CM_Get_Parent")
	getDeviceID = cfgmgr.NewProc("CM_Get_Device_IDW")
	getProperty = cfgmgr.NewProc("CM_Get_DevNode_Registry_PropertyW")
)

// above looks for what a port's own device does not tell at those that it is a part of: a device
// with several functions has its serial number and its socket there.
func above(device windows.DEVINST, p *Entry) {
	for range 3 {
		if getParent.Find() != nil || getDeviceID.Find() != nil || getProperty.Find() != nil {
			return
		}
		var parent windows.DEVINST
		if ret, _, _ := getParent.Call(uintptr(unsafe.Pointer(&parent)), uintptr(device), 0); ret != 0 {
			return
		}
		device = parent
		var text [1024]uint16
		if ret, _, _ := getDeviceID.Call(uintptr(device), uintptr(unsafe.Pointer(&text[0])), uintptr(len(text)), 0); ret != 0 {
			return
		}
		id := windows.UTF16ToString(text[:])
		if !strings.HasPrefix(id, `USB\VID_`) {
			return // a hub, or no USB at all
		}
		if p.Serial == "" {
			p.Serial = serialOf(id)
		}
		const locationPaths = 0x24
		size := uint32(len(text) * 2)
		if ret, _, _ := getProperty.Call(uintptr(device), locationPaths, 0, uintptr(unsafe.Pointer(&text[0])), uintptr(unsafe.Pointer(&size)), 0); ret == 0 && p.Socket == "" {
			p.Socket = windowsSocket(windows.UTF16ToString(text[:]))
		}
	}
}

// property is a text that the list of devices has of a device, the first of several; "" if none.
func property(set windows.DevInfo, device *windows.DevInfoData, which windows.SPDRP) string {
	v, err := windows.SetupDiGetDeviceRegistryProperty(set, device, which)
	if err != nil {
		return ""
	}
	switch v := v.(type) {
	case string:
		return strings.TrimSpace(v)
	case []string:
		if len(v) > 0 {
			return v[0]
		}
	}
	return ""
}
