package dialog_test

import (
	"bufio"
	"context"
	"fmt"
	"time"

	"uparrot/core/dialog"
	"uparrot/core/pattern"
	"uparrot/core/phrasebook"
	"uparrot/core/port"
	"uparrot/core/uart"
)

// A command is said to a module, and its answer is heard.
func Example() {
	host, module := port.Pipe("radio", uart.DefaultLine)
	go func() { // a module that answers
		said, err := bufio.NewReader(module).ReadString('\r')
		if err == nil {
			fmt.Fprintf(module, "%s\r\n~NODE: 17\r\nOK\r\n", said)
		}
	}()
	d := dialog.Open(host, dialog.Config{Dialect: phrasebook.AT, Ending: phrasebook.CR})
	defer d.Close()
	ctx := context.Background()
	if _, err := d.Say(ctx, "AT~NODE?", 5*time.Second); err != nil {
		fmt.Println(err)
		return
	}
	node, err := pattern.Compile("~NODE: {node:int}")
	if err != nil {
		fmt.Println(err)
		return
	}
	heard, err := d.Hear(ctx, dialog.Wait{Pattern: node, Within: 5 * time.Second})
	fmt.Println(heard.Captures[0].Name, heard.Captures[0].Value, err)
	// Output:
	// node 17 <nil>
}
