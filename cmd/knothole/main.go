// Command knothole evaluates typed configuration to plain data and compares it across environments.
package main

import (
	"os"

	"knothole/shell/command"
)

func main() {
	os.Exit(command.Main(os.Args[1:], command.System()))
}
