package drift

import (
	"context"

	"alibi/internal/baseline"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Keep keeps the rows of a copy as they are now, for what becomes of them to be told and merged: those of tables
// with keys that can be compared, without what the site writes by itself and what never changes. told counts rows.
func Keep(ctx context.Context, v *baseline.Values, snap tables.Snapshot, tr *stack.Transform, told func(rows int64),
) error {
	snap = tables.ByDeclaredKey(snap)
	prefix := tr.Change.Origin.Prefix
	of, owns := tr.Items(), tr.Stack.Owns(snap.Schema(), prefix)
	for _, t := range snap.Schema().Tables {
		if !owns(t.Name) || t.Counters || !exactKeys(t) || tr.Empties(t.Name) {
			continue
		}
		var n int64
		if err := v.Replace(ctx, t, func(give func(tables.Row) error) error {
			return snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
				if n++; n%1000 == 0 {
					told(1000)
				}
				if _, passing := tr.About(t, r); passing || of.Fixed(prefix, t, r) {
					return nil
				}
				return give(r)
			})
		}); err != nil {
			return err
		}
		told(n % 1000)
	}
	return nil
}
