package bench

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/record"
	"uparrot/core/uart"
)

// What goes over the port and what is passed over is in the record, in order.
func TestOpenRecords(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host, module := port.Pipe("m", uart.DefaultLine)
		var rec bytes.Buffer
		w := record.New(&rec, record.Origin{Tool: "test"})
		s := &Station{Name: "north", Address: port.Address{Where: "/dev/x"}, Setup: phrasebook.Setup{Dialect: phrasebook.AT, Ending: phrasebook.CR}, Dial: func() (port.Port, error) { return host, nil }}
		adjusted := false
		d, err := s.Open(t.Context(), record.NewStream(w), func(c *dialog.Config) { adjusted = c.Dialect == phrasebook.AT && c.Ending == phrasebook.CR })
		if err != nil || !adjusted {
			t.Fatal(err, adjusted)
		}
		if _, err := d.Say(t.Context(), "AT", time.Second); err != nil {
			t.Fatal(err)
		}
		io.WriteString(module, "noise\r\nREADY\r\n")
		if _, err := d.Hear(t.Context(), dialog.Wait{Pattern: pattern.Must("READY"), Within: time.Second}); err != nil {
			t.Fatal(err)
		}
		if err := s.Close(record.NewStream(w), d); err != nil {
			t.Fatal(err)
		}
		var got []string
		if _, err := record.Read(&rec, func(e record.Event) error {
			got = append(got, string(e.Kind)+" "+e.Port+" "+strings.TrimSpace(e.Text))
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		want := "record  |open north |out north AT|in north noise\r\nREADY|passed north noise|close north "
		if s := strings.Join(got, "|"); s != want {
			t.Errorf("got\n%s\nwant\n%s", s, want)
		}
	})
}

func TestOpenFails(t *testing.T) {
	why := errors.New("held")
	s := &Station{Dial: func() (port.Port, error) { return nil, why }}
	if _, err := s.Open(t.Context(), nil, nil); !errors.Is(err, why) {
		t.Errorf("got %v", err)
	}
	host, module := port.Pipe("m", uart.DefaultLine)
	defer module.Close()
	s = &Station{Setup: phrasebook.Setup{Flow: uart.RTSCTS}, Dial: func() (port.Port, error) { return host, nil }}
	if _, err := s.Open(t.Context(), nil, nil); port.KindOf(err) != port.Unsupported {
		t.Errorf("flow control where there is none: %v", err)
	}
	if _, err := (&Station{Address: port.Address{Where: "/dev/no-such-port"}}).Open(t.Context(), nil, nil); port.KindOf(err) != port.Missing {
		t.Errorf("got %v", err)
	}
}
