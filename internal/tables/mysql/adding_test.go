package mysql_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// Rows that are brought are read once, and need not be read again to know what they add up to.
func TestRowsThatAreBroughtAreReadOnce(t *testing.T) {
	ctx := context.Background()
	const many = "INSERT INTO boats SELECT seq, CONCAT('boat ', seq) FROM seq_1_to_300"
	const shape = "CREATE TABLE boats (id INT PRIMARY KEY, name VARCHAR(20))"
	goal := newDatabase(t, "brought_goal", shape, many)
	want, err := goal.Snapshot(ctx)
	require.NoError(t, err)
	defer want.Close()
	boats, _ := want.Schema().Table("boats")
	rows, sum, err := want.(tables.Summer).Total(ctx, "boats", tables.Range{})
	require.NoError(t, err)
	for _, c := range []struct {
		name, base, was string
		read            int
		patched, whole  int
	}{
		{"most are missing", "brought_most", "DELETE FROM boats WHERE id > 100", 1, 0, 1},
		{"some are missing", "brought_some", "DELETE FROM boats WHERE id > 290", 2, 1, 0},
		{"all are there", "brought_all", "DO 0", 1, 0, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			db := newDatabase(t, c.base, shape, many, c.was)
			now, err := db.Snapshot(ctx)
			require.NoError(t, err)
			read := 0
			w := tables.Wanted{Digest: want.Digest, Tables: []tables.WantedTable{{
				Name: "boats", Table: &boats, Least: 300, Fixed: true,
				Rows: func(ctx context.Context, give func(tables.Row) error) error {
					read++
					return want.Read(ctx, "boats", tables.Range{}, give)
				}}}}
			edit := root().Edit(c.base)
			made, err := edit.Stage(ctx, now, w, func(int64, int64) {})
			require.NoError(t, err)
			require.NoError(t, now.Close())
			assert.Equal(t, map[string]tables.Sum{"boats": {Rows: rows, Sum: sum}}, made.Sums)
			assert.Equal(t, c.read, read)
			assert.Equal(t, [2]int{c.patched, c.whole}, [2]int{made.Patched, made.Whole})
			require.NoError(t, edit.Exchange(ctx))
			require.NoError(t, edit.Commit(ctx))
			is, err := db.Snapshot(ctx)
			require.NoError(t, err)
			defer is.Close()
			n, s, err := is.(tables.Summer).Total(ctx, "boats", tables.Range{})
			require.NoError(t, err)
			assert.Equal(t, tables.Sum{Rows: rows, Sum: sum}, tables.Sum{Rows: n, Sum: s})
		})
	}
}
