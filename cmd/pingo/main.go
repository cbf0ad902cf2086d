// Pingo keeps search indexes true to the databases they are made from.
package main

import (
	"os"
	"runtime/pprof"

	"pingo/internal/cli"
)

func main() {
	if f := os.Getenv("PROF"); f != "" {
		w, _ := os.Create(f + os.Args[1])
		pprof.StartCPUProfile(w)
		c := cli.Main()
		pprof.StopCPUProfile()
		os.Exit(c)
	}
	os.Exit(cli.Main())
}
