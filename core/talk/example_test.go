package talk_test

import (
	"bufio"
	"context"
	"fmt"

	"uparrot/core/bench"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/talk"
	"uparrot/core/uart"
)

// A line is said by hand, and its answer is waited for.
func Example() {
	host, module := port.Pipe("radio", uart.DefaultLine)
	go func() {
		if _, err := bufio.NewReader(module).ReadString('\r'); err == nil {
			fmt.Fprint(module, "OK\r\n")
		}
	}()
	t := &talk.Talker{
		Station: &bench.Station{Name: "radio", Setup: phrasebook.Setup{Dialect: phrasebook.AT, Ending: phrasebook.CR}, Dial: func() (port.Port, error) { return host, nil }},
		Tell:    func(talk.Event) {},
	}
	ctx := context.Background()
	if err := t.Open(ctx); err != nil {
		fmt.Println(err)
		return
	}
	defer t.Close()
	if err := t.Say(ctx, talk.Words{Text: "AT"}); err != nil {
		fmt.Println(err)
		return
	}
	_, err := t.Answered(ctx)
	fmt.Println("answered:", err == nil)
	// Output: answered: true
}
