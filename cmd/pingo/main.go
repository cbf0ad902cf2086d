// Pingo keeps search indexes true to the databases they are made from.
package main

import (
	"os"

	"pingo/internal/cli"
)

func main() { os.Exit(cli.Main()) }
