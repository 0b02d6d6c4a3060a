// Alibi makes faithful, disposable copies of live websites.
package main

import (
	"context"
	"os"

	"alibi/internal/cli"
	"alibi/internal/desk"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], func(context.Context, *desk.Desk) error { return nil }))
}
