package tables

import (
	"context"
	"fmt"
	"slices"
)

// named is a snapshot whose tables with hidden keys are known by the keys that they declare.
type named struct {
	Snapshot
	schema Schema
	raw    map[string]Table
}

// ByDeclaredKey gives a snapshot in which rows are known by the key that their table declares, where the engine knows
// them by a number of its own: two sites give such a number to different rows. See Table.Declared.
func ByDeclaredKey(snap Snapshot) Snapshot {
	n := &named{Snapshot: snap, schema: snap.Schema(), raw: map[string]Table{}}
	n.schema.Tables = slices.Clone(n.schema.Tables)
	for i, t := range n.schema.Tables {
		if t.Hidden && len(t.Declared) > 0 {
			n.raw[t.Name] = t
			t.Key, t.Hidden = t.Declared, false
			n.schema.Tables[i] = t
		}
	}
	if len(n.raw) == 0 {
		return snap
	}
	return n
}

// Raw gives the snapshot under one of ByDeclaredKey and a table as it is there; not is for all others.
func Raw(snap Snapshot, table string) (under Snapshot, t Table, is bool) {
	n, is := snap.(*named)
	if !is {
		return snap, t, false
	}
	t, is = n.raw[table]
	return n.Snapshot, t, is
}

func (n *named) Schema() Schema { return n.schema }

func (n *named) Ranges(ctx context.Context, table string, rows int) ([]Range, error) {
	if _, is := n.raw[table]; is {
		return []Range{{}}, nil
	}
	return n.Snapshot.Ranges(ctx, table, rows)
}

func (n *named) Read(ctx context.Context, table string, r Range, give func(Row) error) error {
	t, is := n.raw[table]
	if !is {
		return n.Snapshot.Read(ctx, table, r, give)
	}
	if r.After != nil || r.To != nil {
		return fmt.Errorf("table %s is read whole: its rows are not in the order of their key", table)
	}
	key := make([]Value, len(t.Declared))
	return n.Snapshot.Read(ctx, table, r, func(row Row) error {
		for i, name := range t.Declared {
			key[i] = row.Values[t.Column(name)]
		}
		return give(Row{Key: key, Values: row.Values})
	})
}
