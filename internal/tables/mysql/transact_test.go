package mysql_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

func number(n int64) []tables.Value { return []tables.Value{{Kind: tables.Int, Int: n}} }

func TestRowsAreChangedAtOneMomentOrNotAtAll(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "moment", "CREATE TABLE a (id INT PRIMARY KEY, v VARCHAR(50) CHARACTER SET utf8mb4) "+
		"ENGINE=InnoDB",
		"INSERT INTO a VALUES (1, 'one'), (2, 'two'), (3, 'three')",
		"CREATE TABLE b (id INT PRIMARY KEY) ENGINE=MyISAM")
	edit := root().Edit("moment").(tables.Transactor)
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	a, _ := snap.Schema().Table("a")
	b, _ := snap.Schema().Table("b")
	assert.True(t, edit.Transactional(a))
	assert.False(t, edit.Transactional(b))
	text := func(id int64, v string) tables.Row {
		return tables.Row{Key: number(id), Values: append(number(id), tables.Value{Kind: tables.Text, Bytes: []byte(v)})}
	}
	all := func() string {
		var out string
		_, err := db.Query(ctx, "SELECT GROUP_CONCAT(id, v ORDER BY id) FROM a", true,
			func(_ []string, v []tables.Value) error { out = v[0].String(); return nil })
		require.NoError(t, err)
		return out
	}
	change := func(x tables.Transaction) error {
		var seen []string
		err := x.Lock(a, [][]tables.Value{number(1), number(2), number(9)}, func(r tables.Row) error {
			seen = append(seen, r.Address()+r.Values[1].String())
			return nil
		})
		assert.ElementsMatch(t, []string{"1one", "2two"}, seen)
		return errors.Join(err, x.Set(a, number(1), text(1, "één, 'one'")), x.Put(a, []tables.Row{text(4, "four"),
			text(5, "five")}), x.Remove(a, [][]tables.Value{number(2)}))
	}
	broke := errors.New("no, after all")
	err = edit.Transact(ctx, func(x tables.Transaction) error { return errors.Join(change(x), broke) })
	require.ErrorIs(t, err, broke)
	assert.Equal(t, "1one,2two,3three", all())
	require.NoError(t, edit.Transact(ctx, func(x tables.Transaction) error {
		require.NoError(t, change(x))
		assert.Equal(t, "1one,2two,3three", all(), "nobody sees it before its end")
		return nil
	}))
	assert.Equal(t, "1één, 'one',3three,4four,5five", all())
	err = edit.Transact(ctx, func(x tables.Transaction) error {
		return errors.Join(x.Remove(a, [][]tables.Value{number(3)}), x.Put(a, []tables.Row{text(4, "again")}))
	})
	require.ErrorIs(t, err, tables.ErrTaken)
	assert.Equal(t, "1één, 'one',3three,4four,5five", all())
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
		require.NoError(t, x.Lock(a, [][]tables.Value{number(1)}, func(tables.Row) error { return nil }))
		require.NoError(t, other.Exec(ctx, "UPDATE a SET v = 20 WHERE id = 2"), "another row is free")
		require.NoError(t, other.Exec(ctx, "INSERT INTO a VALUES (3, 3)"), "and so is a new one")
		go func() {
			assert.NoError(t, other.Exec(ctx, "UPDATE a SET v = v + 1 WHERE id = 1"))
			wrote <- time.Now()
		}()
		time.Sleep(200 * time.Millisecond)
		held = time.Now()
		return x.Set(a, number(1), tables.Row{Values: append(number(1), tables.Value{Kind: tables.Int, Int: 10})})
	}))
	assert.True(t, (<-wrote).After(held))
	_, err = db.Query(ctx, "SELECT v FROM a WHERE id = 1", true, func(_ []string, v []tables.Value) error {
		assert.Equal(t, "11", v[0].String(), "both are there")
		return nil
	})
	require.NoError(t, err)
}
