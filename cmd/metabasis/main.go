// Command metabasis carries out changes on network devices in a maintenance
// window.
package main

import (
	"os"
	_ "time/tzdata" // windows may be in a zone of their own, on a machine that has none

	"metabasis/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
