package report

import (
	"fmt"
	"io"
	"strings"

	"uparrot/core/record"
	"uparrot/core/text"
)

// serialBytes is the link type of our packets: LINKTYPE_USER0, which is left to
// its users (the registry of link-layer header types). A packet is the bytes of
// one read or write, without any header.
const serialBytes = 147

// mostComments is how many happenings stand at the packet that follows them.
const mostComments = 50

// asPcapng writes the traffic as pcapng: an interface for each port, times in
// nanoseconds, the direction of each packet in its flags, and what happened between
// packets as comments.
func asPcapng(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	out := &packets{w: w}
	ids := map[string]int{}
	port := func(name, what string) (int, error) {
		if id, ok := ids[name]; ok {
			return id, nil
		}
		id, err := out.port(serialBytes, text.Line(name), text.Line(what))
		ids[name] = id
		return id, err
	}
	err := out.section(text.Line(d.Origin.System), text.Line(d.Origin.Tool), text.Line(d.Name()+": "+d.Outcome()))
	for _, p := range d.Ports {
		if err == nil {
			_, err = port(p.Name, p.Address+" ("+p.Setup+")")
		}
	}
	if err != nil {
		return fmt.Errorf("write the packets: %w", err)
	}
	var comments []string
	err = events(r, func(e record.Event) error {
		switch e.Kind {
		case record.In, record.Out:
		case record.Head, record.Frame, record.Passed, record.End:
			return nil
		default:
			if l, ok := words(e); ok && l.Word != roundWord && len(comments) < mostComments {
				comments = append(comments, strings.Join(strings.Fields(l.Word+" "+text.Line(l.Step)+" "+string(l.Verdict)+" "+l.Text), " "))
			}
			return nil
		}
		b, err := e.Bytes()
		if err != nil {
			return fmt.Errorf("the record holds bytes that are none: %w", err)
		}
		n, err := port(e.Port, "")
		if err != nil {
			return err
		}
		told := comments
		comments = nil
		return out.packet(n, e.Time, b, e.Kind == record.In, told)
	})
	if err == nil && len(ids) == 0 {
		_, err = port("none", "the record holds no traffic")
	}
	if err != nil {
		return fmt.Errorf("write the packets: %w", err)
	}
	return nil
}
