// Alibi makes faithful, disposable copies of live websites.
package main

import (
	"os"

	"alibi/internal/cli"
	"alibi/internal/tui"
)

func main() {
	boundMemory()
	os.Exit(profiled(func() int { return cli.Run(os.Args[1:], tui.Run) }))
}
