package tables

import (
	"context"
	"fmt"
)

// None is the state of a site that has no database.
var None Snapshot = none{}

type none struct{}

func (none) Schema() Schema { return Schema{} }

func (none) Readers() int { return 1 }

func (none) Ranges(_ context.Context, table string, _ int) ([]Range, error) {
	return nil, notThere(table)
}

func (none) Read(_ context.Context, table string, _ Range, _ func(Row) error) error {
	return notThere(table)
}

func (none) Digest(_ string, r Row, buf []byte) (Digest, []byte) { return r.Digest(buf) }

func (none) Close() error { return nil }

func notThere(table string) error {
	return fmt.Errorf("the site has no database, and no table %s", table)
}
