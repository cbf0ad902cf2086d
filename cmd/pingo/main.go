// Command pingo keeps search indexes in sync with the databases they are made from.
package main

import (
	"os"

	"pingo/internal/cli"
	"pingo/internal/programs"
)

func main() { os.Exit(cli.Main(programs.Commands)) }
