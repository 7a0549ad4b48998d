package budget

import (
	"fmt"
	"testing"
	"time"

	"uparrot/core/uart"
)

func TestBudget(t *testing.T) {
	c, err := Budget{Line: uart.Line{Speed: 9600}, Payload: 24, Command: 16, Answer: 6, Arrival: 27, AirRate: 5000, Preamble: 30 * time.Millisecond}.Costs()
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(c.SendWire, c.AnswerWire, c.Air, c.ArriveWire, c.Latency, c.Every, " ", c.Bottleneck)
	if want := "41.666666ms 6.25ms 68.4ms 53.125ms 163.191666ms 68.4ms the air"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if _, err := (Budget{Line: uart.Line{Speed: 9600}}).Costs(); err == nil {
		t.Error("took a frame without payload")
	}
}
