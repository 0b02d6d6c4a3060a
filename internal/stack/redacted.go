package stack

import (
	"context"

	"alibi/internal/tables"
)

// Redacted is a snapshot without what a redaction takes out. It offers nothing
// that a server would do on rows as they are.
func Redacted(s tables.Snapshot, by Redaction) tables.Snapshot { return redacted{s, by} }

type redacted struct {
	tables.Snapshot
	by Redaction
}

func (r redacted) Read(ctx context.Context, table string, part tables.Range, give func(tables.Row) error) error {
	t, _ := r.Schema().Table(table)
	return r.Snapshot.Read(ctx, table, part, func(row tables.Row) error { return give(r.by.Row(t, row)) })
}
