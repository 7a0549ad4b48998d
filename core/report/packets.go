package report

import (
	"encoding/binary"
	"io"
	"time"
)

// packets writes pcapng (draft-ietf-opsawg-pcapng) as far as reports need it: one
// section, an interface for each port, packets with comments and a direction.
// Everything is in little-endian order.
type packets struct {
	w          io.Writer
	interfaces int
	buf        []byte
}

// Block types and the options that are used.
const (
	sectionHeader   = 0x0a0d0d0a
	interfaceBlock  = 1
	enhancedPacket  = 6
	byteOrderMagic  = 0x1a2b3c4d
	optComment      = 1
	optInterface    = 2 // its name
	optDescription  = 3
	optOS           = 3
	optApplication  = 4
	optFlags        = 2
	optResolution   = 9
	nanoseconds     = 9 // negative power of ten
	flagInbound     = 1
	flagOutbound    = 2
	longestOption   = 65535
	blockFrameBytes = 12 // type and both lengths
)

// block writes one block of a type; build appends its body.
func (p *packets) block(kind uint32, build func(b []byte) []byte) error {
	b := binary.LittleEndian.AppendUint32(p.buf[:0], kind)
	b = binary.LittleEndian.AppendUint32(b, 0)
	b = build(b)
	length := uint32(len(b) - 8 + blockFrameBytes)
	binary.LittleEndian.PutUint32(b[4:], length)
	b = binary.LittleEndian.AppendUint32(b, length)
	p.buf = b
	_, err := p.w.Write(b)
	return err
}

// pad fills up to a multiple of four bytes.
func pad(b []byte, n int) []byte { return append(b, make([]byte, (4-n%4)%4)...) }

// option appends an option; an empty one is left out.
func option(b []byte, code uint16, value []byte) []byte {
	if len(value) == 0 {
		return b
	}
	value = value[:min(len(value), longestOption)]
	b = binary.LittleEndian.AppendUint16(b, code)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(value)))
	return pad(append(b, value...), len(value))
}

// endOptions appends what ends a list of options.
func endOptions(b []byte) []byte { return append(b, 0, 0, 0, 0) }

// section writes the header of the one section.
func (p *packets) section(system, application, comment string) error {
	return p.block(sectionHeader, func(b []byte) []byte {
		b = binary.LittleEndian.AppendUint32(b, byteOrderMagic)
		b = binary.LittleEndian.AppendUint16(b, 1) // version 1.0
		b = binary.LittleEndian.AppendUint16(b, 0)
		b = binary.LittleEndian.AppendUint64(b, ^uint64(0)) // its length is not told
		b = option(b, optComment, []byte(comment))
		b = option(b, optOS, []byte(system))
		return endOptions(option(b, optApplication, []byte(application)))
	})
}

// port writes an interface and returns its number.
func (p *packets) port(linkType uint16, name, description string) (int, error) {
	n := p.interfaces
	p.interfaces++
	return n, p.block(interfaceBlock, func(b []byte) []byte {
		b = binary.LittleEndian.AppendUint16(b, linkType)
		b = binary.LittleEndian.AppendUint16(b, 0)
		b = binary.LittleEndian.AppendUint32(b, 0) // packets of any length
		b = option(b, optInterface, []byte(name))
		b = option(b, optDescription, []byte(description))
		return endOptions(option(b, optResolution, []byte{nanoseconds}))
	})
}

// packet writes one packet with its comments.
func (p *packets) packet(port int, at time.Time, data []byte, inbound bool, comments []string) error {
	return p.block(enhancedPacket, func(b []byte) []byte {
		ns := uint64(at.UnixNano())
		b = binary.LittleEndian.AppendUint32(b, uint32(port))
		b = binary.LittleEndian.AppendUint32(b, uint32(ns>>32))
		b = binary.LittleEndian.AppendUint32(b, uint32(ns))
		b = binary.LittleEndian.AppendUint32(b, uint32(len(data)))
		b = binary.LittleEndian.AppendUint32(b, uint32(len(data)))
		b = pad(append(b, data...), len(data))
		for _, c := range comments {
			b = option(b, optComment, []byte(c))
		}
		flags := uint32(flagOutbound)
		if inbound {
			flags = flagInbound
		}
		return endOptions(option(b, optFlags, binary.LittleEndian.AppendUint32(nil, flags)))
	})
}
