package pointhost

import (
	"context"
	"fmt"

	"alibi/internal/depot"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// database is the tables of a point.
type database struct{ h *Host }

// Stamp is the same for as long as the point is.
func (d *database) Stamp(context.Context) (string, error) { return d.h.p.ID, nil }

// Snapshot reads the schema.
func (d *database) Snapshot(ctx context.Context) (tables.Snapshot, error) {
	s := &snapshot{h: d.h, kept: map[string]depot.Kept{}}
	var err error
	if s.schema, err = d.h.d.Schema(ctx, d.h.p); err != nil {
		return nil, err
	}
	for _, k := range d.h.p.Tables {
		s.kept[k.Name] = k
	}
	s.digest = engines.Digester(s.schema)
	return s, nil
}

type snapshot struct {
	h      *Host
	schema tables.Schema
	kept   map[string]depot.Kept
	digest func(table string, r tables.Row, buf []byte) (tables.Digest, []byte)
}

func (s *snapshot) Schema() tables.Schema { return s.schema }
func (s *snapshot) Readers() int          { return 2 }
func (s *snapshot) Close() error          { return nil }

// Ranges gives the whole: segments are read in their order.
func (s *snapshot) Ranges(context.Context, string, int) ([]tables.Range, error) {
	return []tables.Range{{}}, nil
}

func (s *snapshot) Digest(table string, r tables.Row, buf []byte) (tables.Digest, []byte) {
	return s.digest(table, r, buf)
}

func (s *snapshot) Read(ctx context.Context, table string, r tables.Range, give func(tables.Row) error) error {
	t, ok := s.schema.Table(table)
	k, has := s.kept[table]
	if !ok || !has {
		return fmt.Errorf("no table %s in the %s", table, s.h.Name())
	}
	if r.After != nil || r.To != nil {
		return fmt.Errorf("table %s in the %s is read as a whole only", table, s.h.Name())
	}
	return s.h.d.Table(ctx, t, k, give)
}
