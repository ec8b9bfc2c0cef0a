// Command crelvo is the service and its command line.
package main

import (
	"os"

	"crelvo/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
