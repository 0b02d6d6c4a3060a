package tablestest

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// Number is a key of one number.
func Number(n int64) []tables.Value { return []tables.Value{{Kind: tables.Int, Int: n}} }

// Labelled is a row of a number and a text.
func Labelled(id int64, text string) tables.Row {
	return tables.Row{Key: Number(id), Values: append(Number(id), tables.Value{Kind: tables.Text, Bytes: []byte(text)})}
}

// RunTransact tests that rows are changed at one moment, or not at all.
func RunTransact(t *testing.T, e EditEngine) {
	ctx := context.Background()
	db, open := e.Make(t, "CREATE TABLE a (id INTEGER PRIMARY KEY, v VARCHAR(50))", "CREATE TABLE b (v INTEGER)",
		"INSERT INTO a VALUES (1, 'one'), (2, 'two'), (3, 'three')")
	edit := open().(tables.Transactor)
	defer edit.Close()
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	a, _ := snap.Schema().Table("a")
	b, _ := snap.Schema().Table("b")
	require.NoError(t, snap.Close())
	assert.True(t, edit.Transactional(a))
	assert.False(t, edit.Transactional(b), "its rows are known by nothing that is theirs")
	all := func() (out []string) {
		snap, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer snap.Close()
		require.NoError(t, snap.Read(ctx, "a", tables.Range{}, func(r tables.Row) error {
			out = append(out, fmt.Sprint(r.Values[0].Int, " ", r.Values[1]))
			return nil
		}))
		return out
	}
	change := func(x tables.Transaction) error {
		var seen []string
		err := x.Lock(a, [][]tables.Value{Number(1), Number(2), Number(9)}, func(r tables.Row) error {
			seen = append(seen, r.Address()+r.Values[1].String())
			return nil
		})
		assert.ElementsMatch(t, []string{"1one", "2two"}, seen)
		return errors.Join(err, x.Set(a, Number(1), Labelled(1, "één, 'one'")),
			x.Put(a, []tables.Row{Labelled(4, "four"), Labelled(5, "five")}), x.Remove(a, [][]tables.Value{Number(2)}))
	}
	was := []string{"1 one", "2 two", "3 three"}
	broke := errors.New("no, after all")
	err = edit.Transact(ctx, func(x tables.Transaction) error { return errors.Join(change(x), broke) })
	require.ErrorIs(t, err, broke)
	assert.Equal(t, was, all())
	gone, stop := context.WithCancel(ctx)
	err = edit.Transact(gone, func(x tables.Transaction) error {
		defer stop()
		return change(x)
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, was, all())
	require.NoError(t, edit.Transact(ctx, change))
	is := []string{"1 één, 'one'", "3 three", "4 four", "5 five"}
	assert.Equal(t, is, all())
	err = edit.Transact(ctx, func(x tables.Transaction) error {
		return errors.Join(x.Remove(a, [][]tables.Value{Number(3)}), x.Put(a, []tables.Row{Labelled(4, "again")}))
	})
	require.ErrorIs(t, err, tables.ErrTaken)
	assert.Equal(t, is, all())
}
