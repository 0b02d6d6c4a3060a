package keep

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"alibi/internal/depot"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// tables keeps the site's tables, all of one state.
func (k *keeping) tables(ctx context.Context, place stack.Place, s site.Site, p *depot.Point) error {
	if s.Database.Engine == "" {
		return nil
	}
	st, err := k.env.Stack(s.Stack)
	if err != nil {
		return err
	}
	db, err := stack.OpenDatabase(ctx, st, place, s.Database)
	if err != nil {
		return err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return fmt.Errorf("reading the site's database: %w", err)
	}
	defer snap.Close()
	schema := snap.Schema()
	if p.Schema, err = k.to.JSON(schema); err != nil {
		return err
	}
	if p.Quiet, err = tables.Quiet(ctx, snap); err != nil {
		return err
	}
	same := k.unchanged(ctx, schema, p.Quiet)
	p.Tables = make([]depot.Kept, len(schema.Tables))
	order := make([]int, len(schema.Tables))
	for i := range order {
		order[i] = i
	}
	// the largest first
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(schema.Tables[b].Bytes, schema.Tables[a].Bytes)
	})
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(snap.Readers())
	for _, i := range order {
		g.Go(func() (err error) {
			tab := schema.Tables[i]
			was, ok := same[tab.Name]
			if !ok {
				if was, err = k.table(gctx, snap, tab); err != nil {
					return fmt.Errorf("reading table %s: %w", tab.Name, err)
				}
			}
			p.Tables[i] = was
			k.t.Add(tab.Bytes, 1)
			return nil
		})
	}
	return g.Wait()
}

func (k *keeping) table(ctx context.Context, snap tables.Snapshot, tab tables.Table) (depot.Kept, error) {
	return k.to.Table(tab, func(give func(tables.Row) error) error {
		return snap.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
			if err := ctx.Err(); err != nil {
				return err
			}
			return give(r)
		})
	})
}

// unchanged gives the tables of the point before that nobody wrote to since.
func (k *keeping) unchanged(ctx context.Context, now tables.Schema, quiet map[string]string) map[string]depot.Kept {
	out := map[string]depot.Kept{}
	if k.last == nil || len(k.last.Quiet) == 0 {
		return out
	}
	was, err := k.d.Schema(ctx, *k.last)
	if err != nil {
		return out // then everything is read
	}
	for _, t := range k.last.Tables {
		before, _ := was.Table(t.Name)
		tab, ok := now.Table(t.Name)
		at := k.last.Quiet[t.Name]
		if ok && tables.Same(at, quiet[t.Name]) && t.Rows == tab.Rows && before.Create == tab.Create &&
			slices.Equal(before.Columns, tab.Columns) &&
			k.to.Holds(t) {
			out[t.Name] = t
		}
	}
	return out
}
