// Package budget works out what a frame must cost on the wire and in the air before
// anything is measured.
package budget

import (
	"fmt"
	"time"

	"uparrot/core/link/frame"
	"uparrot/core/uart"
)

// Budget is what one frame must cost before anything is measured.
type Budget struct {
	Line     uart.Line
	Payload  int           // bytes
	Command  int           // bytes that the carrier adds where it is sent, line ending included
	Answer   int           // bytes that the sending module answers before it takes the next
	Arrival  int           // bytes that the carrier adds where it arrives
	AirRate  float64       // bits a second; 0 leaves the air out
	AirExtra int           // bytes that the air adds to the payload
	Preamble time.Duration // before each frame in the air
}

// Costs are the times of one frame, and the rate that follows from them.
type Costs struct {
	SendWire    time.Duration // payload and command on the sender's line
	AnswerWire  time.Duration // the answer on the sender's line
	Air         time.Duration // preamble, payload and what the air adds
	ArriveWire  time.Duration // payload and what is added on the receiver's line
	Latency     time.Duration // the least possible: send, air, arrive
	Every       time.Duration // the shortest interval that nothing falls behind at
	Rate        float64       // frames a second at that interval
	Throughput  float64       // bits of payload a second then
	Bottleneck  string        // what sets the interval
	Utilisation float64       // share of the sender's line that payload and command take then
}

// Costs works the budget out. A character on the wire takes start, data, parity
// and stop bits at the line's speed; in the air a byte takes eight bits.
func (b Budget) Costs() (Costs, error) {
	if b.Payload < 1 || b.Command < 0 || b.Answer < 0 || b.Arrival < 0 || b.AirExtra < 0 || b.AirRate < 0 || b.Preamble < 0 {
		return Costs{}, fmt.Errorf("a payload has at least one byte, and nothing may be below zero")
	}
	c := Costs{
		SendWire:   b.Line.Time(b.Payload + b.Command),
		AnswerWire: b.Line.Time(b.Answer),
		ArriveWire: b.Line.Time(b.Payload + b.Arrival),
	}
	if b.AirRate > 0 {
		c.Air = frame.AirTime(b.Payload+b.AirExtra, b.AirRate, b.Preamble)
	}
	c.Latency = c.SendWire + c.Air + c.ArriveWire
	stages := []struct {
		name string
		d    time.Duration
	}{
		{"the sender's wire: the command and its answer", c.SendWire + c.AnswerWire},
		{"the air", c.Air},
		{"the receiver's wire", c.ArriveWire},
	}
	for _, s := range stages {
		if s.d > c.Every {
			c.Every, c.Bottleneck = s.d, s.name
		}
	}
	c.Rate = 1 / c.Every.Seconds()
	c.Throughput = c.Rate * float64(b.Payload*8)
	c.Utilisation = c.SendWire.Seconds() / c.Every.Seconds()
	return c, nil
}
