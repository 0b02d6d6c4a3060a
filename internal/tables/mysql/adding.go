package mysql

import (
	"context"
	"sync"

	"alibi/internal/tables"
)

// adding adds up the rows of tables as they are given, so that they need not be read once more to be compared with
// what became of them. Several tables may be given at once.
type adding struct {
	digest func(table string, r tables.Row, buf []byte) (tables.Digest, []byte)

	mu sync.Mutex
	of map[string]tables.Sum
}

// note keeps what the rows of a table add up to.
func (a *adding) note(w tables.WantedTable, s tables.Sum) {
	if !w.Fixed {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.of[w.Name] = s
}

// rows gives the rows of a table, and notes what they add up to when all were given.
func (a *adding) rows(w tables.WantedTable) func(context.Context, func(tables.Row) error) error {
	if !w.Fixed || a.digest == nil {
		return w.Rows
	}
	return func(ctx context.Context, give func(tables.Row) error) error {
		var s tables.Sum
		var d tables.Digest
		var buf []byte
		err := w.Rows(ctx, func(r tables.Row) error {
			d, buf = a.digest(w.Name, r, buf)
			s.Rows, s.Sum = s.Rows+1, s.Sum+d[0]
			return give(r)
		})
		if err == nil {
			a.note(w, s)
		}
		return err
	}
}
