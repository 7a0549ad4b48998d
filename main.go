// Uparrot puts radio, modem and console-attached modules into service: it says
// a module's commands, checks the answers, and measures the link that two
// modules make.
package main

import (
	"os"

	"uparrot/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
