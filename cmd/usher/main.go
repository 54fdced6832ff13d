// Command usher is the service of Usher Bench and its command-line client in one binary.
package main

import (
	"os"

	"usherbench/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
