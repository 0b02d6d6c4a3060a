package mysql_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/tablestest"
)

func TestTransact(t *testing.T) {
	tablestest.RunTransact(t, editEngine)
	ctx := context.Background()
	db := newDatabase(t, "old_engine", "CREATE TABLE b (id INT PRIMARY KEY) ENGINE=MyISAM")
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	b, _ := snap.Schema().Table("b")
	assert.False(t, root().Edit("old_engine").(tables.Transactor).Transactional(b))
}

func TestALockedRowIsNotChangedByOthersMeanwhile(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "held", "CREATE TABLE a (id INT PRIMARY KEY, v INT) ENGINE=InnoDB",
		"INSERT INTO a VALUES (1, 1), (2, 2)")
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	a, _ := snap.Schema().Table("a")
	edit := root().Edit("held").(tables.Transactor)
	other := mysql.Open(root(), "held")
	wrote := make(chan time.Time, 1)
	var held time.Time
	require.NoError(t, edit.Transact(ctx, func(x tables.Transaction) error {
		require.NoError(t, x.Lock(a, [][]tables.Value{tablestest.Number(1)}, func(tables.Row) error { return nil }))
		require.NoError(t, other.Exec(ctx, "UPDATE a SET v = 20 WHERE id = 2"), "another row is free")
		require.NoError(t, other.Exec(ctx, "INSERT INTO a VALUES (3, 3)"), "and so is a new one")
		go func() {
			assert.NoError(t, other.Exec(ctx, "UPDATE a SET v = v + 1 WHERE id = 1"))
			wrote <- time.Now()
		}()
		time.Sleep(200 * time.Millisecond)
		held = time.Now()
		return x.Set(a, tablestest.Number(1), tables.Row{Values: append(tablestest.Number(1), tables.Value{Kind: tables.Int,
			Int: 10})})
	}))
	assert.True(t, (<-wrote).After(held))
	_, err = db.Query(ctx, "SELECT v FROM a WHERE id = 1", true, func(_ []string, v []tables.Value) error {
		assert.Equal(t, "11", v[0].String(), "both are there")
		return nil
	})
	require.NoError(t, err)
}
