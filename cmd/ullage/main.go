// Command ullage is the service, its command line and the simulated fleet.
package main

import (
	"os"

	"ullage/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
