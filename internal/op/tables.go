package op

import (
	"context"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Tables opens a site's tables as they are now, to be read.
func (e *Env) Tables(ctx context.Context, s site.Site, use func(st stack.Stack, snap tables.Snapshot) error) error {
	st, err := e.Stack(s.Stack)
	if err != nil {
		return err
	}
	if s.Database.Engine == "" {
		return use(st, tables.None)
	}
	p, err := e.Place(ctx, s.Host, s.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	db, err := stack.OpenDatabase(ctx, st, p, s.Database)
	if err != nil {
		return err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	return use(st, snap)
}
