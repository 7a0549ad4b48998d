package port

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

// Holder is a program that has a port open.
type Holder struct {
	Program string
	Process int
}

// handleEntry is SYSTEM_HANDLE_TABLE_ENTRY_INFO_EX.
type handleEntry struct {
	object  uintptr
	process uintptr
	handle  uintptr
	access  uint32
	_       uint16
	kind    uint16
	_       uint32
	_       uint32
}

var queryObject = windows.NewLazySystemDLL("ntdll.dll").NewProc("NtQueryObject")

// Holders finds the programs that have devices such as COM3 open, among those that this user
// may look into.
func Holders(devices []string) map[string][]Holder {
	wanted := map[string]string{} // by what the system calls them within
	for _, d := range devices {
		if inner := innerName(d); inner != "" {
			wanted[inner] = d
		}
	}
	found := map[string][]Holder{}
	if len(wanted) == 0 {
		return found
	}
	processes := map[uintptr]windows.Handle{}
	defer func() {
		for _, p := range processes {
			if p != 0 {
				_ = windows.CloseHandle(p) // it was only looked into
			}
		}
	}()
	ask := newAsker()
	defer ask.end()
	for _, e := range systemHandles() {
		p, known := processes[e.process]
		if !known {
			p, _ = windows.OpenProcess(windows.PROCESS_DUP_HANDLE|windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(e.process)) // another user's stays 0
			processes[e.process] = p
		}
		if p == 0 {
			continue
		}
		var own windows.Handle
		if windows.DuplicateHandle(p, windows.Handle(e.handle), windows.CurrentProcess(), &own, 0, false, windows.DUPLICATE_SAME_ACCESS) != nil {
			continue
		}
		device, ok := wanted[strings.ToLower(ask.name(own))]
		who := Holder{program(p), int(e.process)}
		if ok && !slices.Contains(found[device], who) {
			found[device] = append(found[device], who)
		}
	}
	return found
}

// HolderOf names the programs that have a device open; "" if none can be seen.
func HolderOf(device string) string {
	var who []string
	for _, h := range Holders([]string{device})[device] {
		who = append(who, fmt.Sprintf("%s (process %d)", h.Program, h.Process))
	}
	return strings.Join(who, " and ")
}

// innerName is what the system calls a device within, in small letters; "" if there is none.
func innerName(device string) string {
	name, err := windows.UTF16PtrFromString(strings.TrimPrefix(device, `\\.\`))
	if err != nil {
		return ""
	}
	target := make([]uint16, 1024)
	if _, err := windows.QueryDosDevice(name, &target[0], uint32(len(target))); err != nil {
		return ""
	}
	return strings.ToLower(windows.UTF16ToString(target))
}

// systemHandles are all handles of all processes; none if the system does not tell.
func systemHandles() []handleEntry {
	for size := 1 << 20; size <= 1<<28; size *= 2 {
		buf := make([]byte, size)
		var need uint32
		err := windows.NtQuerySystemInformation(windows.SystemExtendedHandleInformation, unsafe.Pointer(&buf[0]), uint32(size), &need)
		if err == windows.STATUS_INFO_LENGTH_MISMATCH {
			continue
		}
		if err != nil {
			return nil
		}
		n := *(*uintptr)(unsafe.Pointer(&buf[0]))
		const head = 2 * unsafe.Sizeof(n)
		n = min(n, (uintptr(size)-head)/unsafe.Sizeof(handleEntry{}))
		return slices.Clone(unsafe.Slice((*handleEntry)(unsafe.Pointer(&buf[head])), n))
	}
	return nil
}

// asker asks for names of handles. The system may never answer for a pipe that somebody waits
// at: then the one who asked is left behind, and another goes on.
type asker struct {
	asked    chan windows.Handle
	answered chan string
}

func newAsker() *asker {
	a := &asker{make(chan windows.Handle), make(chan string, 1)}
	go func(asked <-chan windows.Handle, answered chan<- string) {
		for h := range asked {
			answered <- nameOf(h)
		}
	}(a.asked, a.answered)
	return a
}

// askTime is how long the system may take to name a handle.
const askTime = 50 * time.Millisecond

// name is the name of a handle, which is closed.
func (a *asker) name(h windows.Handle) string {
	a.asked <- h
	select {
	case name := <-a.answered:
		return name
	case <-time.After(askTime):
		a.end()
		*a = *newAsker()
		return ""
	}
}

func (a *asker) end() { close(a.asked) }

// nameOf is what the system calls the object of a handle, and closes the handle.
func nameOf(h windows.Handle) string {
	defer windows.CloseHandle(h)
	if kind, err := windows.GetFileType(h); err != nil || kind == windows.FILE_TYPE_PIPE || kind == windows.FILE_TYPE_DISK {
		return ""
	}
	var buf [2048]byte
	const objectName = 1
	status, _, _ := queryObject.Call(uintptr(h), objectName, uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)), 0)
	if status != 0 {
		return ""
	}
	return (*windows.NTUnicodeString)(unsafe.Pointer(&buf[0])).String()
}

// program is the name of a process's program.
func program(p windows.Handle) string {
	path := make([]uint16, 1024)
	n := uint32(len(path))
	if windows.QueryFullProcessImageName(p, 0, &path[0], &n) != nil {
		return "a program"
	}
	return strings.TrimSuffix(filepath.Base(windows.UTF16ToString(path[:n])), ".exe")
}

// latencyOf is how long the driver of a device lets the adapter gather bytes, as far as the
// registry tells.
func latencyOf(device string) (time.Duration, bool) {
	found := time.Duration(0)
	ok := false
	eachParameters(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Enum`, 3, func(k registry.Key) bool {
		name, _, err := k.GetStringValue("PortName")
		if err != nil || !strings.EqualFold(name, strings.TrimPrefix(device, `\\.\`)) {
			return false
		}
		ms, _, err := k.GetIntegerValue("LatencyTimer")
		found, ok = time.Duration(ms)*time.Millisecond, err == nil
		return ok
	})
	return found, ok
}

// eachParameters gives the parameters of each device to f until that has what it wants: buses,
// their devices, the places of each.
func eachParameters(root registry.Key, path string, depth int, f func(registry.Key) bool) (done bool) {
	if depth == 0 {
		k, err := registry.OpenKey(root, path+`\Device Parameters`, registry.QUERY_VALUE)
		if err != nil {
			return false
		}
		defer k.Close()
		return f(k)
	}
	k, err := registry.OpenKey(root, path, registry.ENUMERATE_SUB_KEYS)
	if err != nil {
		return false
	}
	names, _ := k.ReadSubKeyNames(-1) // what cannot be read tells nothing
	k.Close()
	for _, n := range names {
		if eachParameters(root, path+`\`+n, depth-1, f) {
			return true
		}
	}
	return false
}
