// Command crelvo is the service and its command line.
package main

import (
	"os"
	_ "time/tzdata" // schedules are in time zones, which a bare image does not have

	_ "golang.org/x/crypto/x509roots/fallback" // nor whom to trust over TLS

	"crelvo/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
