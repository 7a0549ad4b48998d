package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"uparrot/core/record"
	"uparrot/core/text"
)

// serialBytes is the link type of our packets: LINKTYPE_USER0, which is left to
// its users (the registry of link-layer header types). A packet is the bytes of
// one read or write, without any header.
const serialBytes = layers.LinkType(147)

// asPcapng writes the traffic as pcapng (draft-ietf-opsawg-pcapng): an interface
// for each port, times in nanoseconds, the direction of each packet in its flags,
// and what happened between packets as comments.
func asPcapng(w io.Writer, d *Digest, r io.ReadSeeker, _ string) error {
	section := pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{
		OS: text.Line(d.Origin.System), Application: text.Line(d.Origin.Tool), Comment: text.Line(d.Name() + ": " + d.Outcome()),
	}}
	about := func(name, what string) pcapgo.NgInterface {
		return pcapgo.NgInterface{Name: text.Line(name), Description: text.Line(what), LinkType: serialBytes, TimestampResolution: 9, SnapLength: 0}
	}
	ids := map[string]int{}
	var out *pcapgo.NgWriter
	id := func(name, what string) (int, error) {
		if id, ok := ids[name]; ok {
			return id, nil
		}
		var err error
		n := 0
		if out == nil {
			out, err = pcapgo.NewNgWriterInterface(w, about(name, what), section)
		} else {
			n, err = out.AddInterface(about(name, what))
		}
		ids[name] = n
		return n, err
	}
	for _, p := range d.Ports {
		if _, err := id(p.Name, p.Address+" ("+p.Setup+")"); err != nil {
			return err
		}
	}
	var comments []string
	err := events(r, func(e record.Event) error {
		direction := pcapgo.NgEpbFlagDirectionOutbound
		switch e.Kind {
		case record.In:
			direction = pcapgo.NgEpbFlagDirectionInbound
		case record.Out:
		case record.Head, record.Frame, record.Passed, record.End:
			return nil
		default:
			if l, ok := words(e); ok && len(comments) < 50 {
				comments = append(comments, strings.Join(strings.Fields(l.Word+" "+text.Line(l.Step)+" "+string(l.Verdict)+" "+l.Text), " "))
			}
			return nil
		}
		b, err := e.Bytes()
		if err != nil {
			return fmt.Errorf("the record holds bytes that are none: %w", err)
		}
		n, err := id(e.Port, "")
		if err != nil {
			return err
		}
		opts := pcapgo.NgPacketOptions{Comments: comments, Flags: &pcapgo.NgEpbFlags{Direction: direction}}
		comments = nil
		return out.WritePacketWithOptions(gopacket.CaptureInfo{Timestamp: e.Time, CaptureLength: len(b), Length: len(b), InterfaceIndex: n}, b, opts)
	})
	if err == nil && out == nil {
		_, err = id("none", "the record holds no traffic")
	}
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return fmt.Errorf("write the packets: %w", err)
	}
	return nil
}
