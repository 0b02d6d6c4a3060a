// Package tablestest is the conformance test of the tables interfaces: an
// engine is done when it passes.
package tablestest

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// Engine is what the test needs of an engine.
type Engine struct {
	// Make makes a database from statements in the engine's language.
	Make func(t *testing.T, statements ...string) tables.Writable
	// Target gives an empty target; called again with the same place, what an
	// earlier one left there. Open opens what was filled.
	Target func(t *testing.T, place string) tables.Target
	Open   func(t *testing.T, place string) tables.Writable
	// Schema makes these: a table posts (id key, title, body, n, f, b), one with
	// a composite key (pairs: a, b, v), one without a key (loose: v), one whose
	// name holds a blank and a quote (odd "name), an index, a view and a trigger
	// on posts that counts inserts in the table seen (n).
	Schema []string
	// Far says that the database stands on another machine, where only Alibi's own
	// engines write.
	Far bool
	// Loose says that no two readings of a snapshot see one state.
	Loose bool
}

// Run tests e.
func Run(t *testing.T, e Engine) {
	ctx := context.Background()
	t.Run("values to the byte", func(t *testing.T) { testValues(t, e) })
	t.Run("ranges cover a table once", func(t *testing.T) { testRanges(t, e) })
	t.Run("a snapshot does not move", func(t *testing.T) {
		db := e.Make(t, e.Schema...)
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title) VALUES (1, 'one')"))
		s, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer s.Close()
		assert.Equal(t, e.Loose, tables.Loose(s), "it says what it can do")
		if e.Loose {
			return
		}
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title) VALUES (2, 'two')"))
		assert.Len(t, all(t, s, "posts"), 1)
	})
	t.Run("the stamp tells of a change", func(t *testing.T) {
		db := e.Make(t, e.Schema...)
		a, err := db.Stamp(ctx)
		require.NoError(t, err)
		b, err := db.Stamp(ctx)
		require.NoError(t, err)
		assert.Equal(t, a, b, "reading changes nothing")
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title) VALUES (1, 'one')"))
		b, err = db.Stamp(ctx)
		require.NoError(t, err)
		assert.NotEqual(t, a, b)
	})
	t.Run("rows are summed up where they are", func(t *testing.T) { testSummer(t, e) })
	t.Run("statements of people", func(t *testing.T) { testQuery(t, e) })
	t.Run("copy is whole", func(t *testing.T) { testCopy(t, e) })
	t.Run("a broken-off load goes on", func(t *testing.T) { testResume(t, e) })
	t.Run("cancel", func(t *testing.T) {
		db := e.Make(t, e.Schema...)
		cctx, cancel := context.WithCancel(ctx)
		cancel()
		_, err := db.Snapshot(cctx)
		assert.ErrorIs(t, err, context.Canceled)
	})
}

func all(t *testing.T, s tables.Snapshot, table string) []string {
	t.Helper()
	var out []string
	require.NoError(t, s.Read(context.Background(), table, tables.Range{}, func(r tables.Row) error {
		line := r.Address() + ":"
		for _, v := range r.Values {
			line += fmt.Sprintf(" %d/%q", v.Kind, v.String())
		}
		out = append(out, line)
		return nil
	}))
	return out
}

func testValues(t *testing.T, e Engine) {
	ctx := context.Background()
	db := e.Make(t, e.Schema...)
	every := make([]byte, 256)
	for i := range every {
		every[i] = byte(i)
	}
	long := strings.Repeat("x", 1<<20)
	rows := [][]any{
		{int64(0), "", "é\x00東京", int64(math.MaxInt64), 1.5, every},
		{int64(2), nil, long, int64(math.MinInt64), -0.25, []byte{}},
		{int64(3), "2026-11-23 14:05:00", "0000-00-00 00:00:00", nil, 1e300, nil},
		{int64(-4), "true", "0123", int64(0), 0.0, []byte("{\"a\": 1}")},
	}
	for _, r := range rows {
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title, body, n, f, b) VALUES (?, ?, ?, ?, ?, ?)", r...))
	}
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	got := map[int64][]tables.Value{}
	require.NoError(t, s.Read(ctx, "posts", tables.Range{}, func(r tables.Row) error {
		for i := range r.Values {
			r.Values[i].Bytes = append([]byte(nil), r.Values[i].Bytes...)
		}
		got[r.Key[0].Int] = append([]tables.Value(nil), r.Values...)
		return nil
	}))
	require.Len(t, got, 4)
	assert.Equal(t, "é\x00東京", string(got[0][2].Bytes))
	assert.Equal(t, tables.Text, got[0][1].Kind)
	assert.Empty(t, got[0][1].Bytes)
	assert.EqualValues(t, math.MaxInt64, got[0][3].Int)
	assert.Equal(t, every, got[0][5].Bytes)
	assert.Equal(t, tables.Null, got[2][1].Kind, "NULL is not empty")
	assert.Len(t, got[2][2].Bytes, 1<<20)
	assert.EqualValues(t, math.MinInt64, got[2][3].Int)
	assert.Equal(t, tables.Blob, got[2][5].Kind, "empty is not NULL")
	assert.Equal(t, "2026-11-23 14:05:00", string(got[3][1].Bytes), "no driver makes a time of it")
	assert.Equal(t, tables.Null, got[3][5].Kind)
	assert.InDelta(t, -0.25, got[2][4].Float, 0)
	assert.Equal(t, "0123", string(got[-4][2].Bytes), "no driver makes a number of it")
}

func testRanges(t *testing.T, e Engine) {
	ctx := context.Background()
	db := e.Make(t, e.Schema...)
	for i := range 103 {
		require.NoError(t, db.Exec(ctx, "INSERT INTO pairs (a, b, v) VALUES (?, ?, ?)", i%7, fmt.Sprint("k", i), "v"))
		require.NoError(t, db.Exec(ctx, "INSERT INTO loose (v) VALUES (?)", fmt.Sprint(i%5)))
	}
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	for _, table := range []string{"pairs", "loose"} {
		parts, err := s.Ranges(ctx, table, 10)
		require.NoError(t, err)
		assert.NotEmpty(t, parts)
		n := 0
		var sum, whole tables.Digest
		var buf []byte
		add := func(d *tables.Digest) func(tables.Row) error {
			return func(r tables.Row) error {
				var one tables.Digest
				one, buf = s.Digest(table, r, buf)
				d.Add(one)
				n++
				return nil
			}
		}
		for _, p := range parts {
			require.NoError(t, s.Read(ctx, table, p, add(&sum)))
		}
		assert.Equal(t, 103, n, table)
		require.NoError(t, s.Read(ctx, table, tables.Range{}, add(&whole)))
		assert.Equal(t, whole, sum)
	}
}

// fill copies a snapshot into a target, failing in table stop if that is given.
func fill(t *testing.T, s tables.Snapshot, to tables.Target, stop string) (read []string, err error) {
	t.Helper()
	ctx := context.Background()
	loaded, err := to.Begin(ctx, s.Schema())
	require.NoError(t, err)
	done := map[string]bool{}
	for _, n := range loaded {
		done[n] = true
	}
	for _, tab := range s.Schema().Tables {
		if done[tab.Name] {
			continue
		}
		read = append(read, tab.Name)
		err := to.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
			n := 0
			return s.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
				if n++; tab.Name == stop && n == 3 {
					return errStop
				}
				return put(r)
			})
		})
		if err != nil {
			return read, errors.Join(err, to.Close())
		}
	}
	return read, to.Finish(ctx)
}

var errStop = errors.New("stopped on purpose")

func seed(t *testing.T, e Engine) tables.Writable {
	ctx := context.Background()
	db := e.Make(t, e.Schema...)
	for i := range 20 {
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title) VALUES (?, ?)", i, fmt.Sprint("title ", i)))
		require.NoError(t, db.Exec(ctx, "INSERT INTO loose (v) VALUES (?)", "same"))
		require.NoError(t, db.Exec(ctx, "INSERT INTO pairs (a, b, v) VALUES (?, ?, ?)", i, "b", nil))
	}
	return db
}

func equal(t *testing.T, a, b tables.Snapshot) {
	t.Helper()
	sa, sb := a.Schema(), b.Schema()
	var na, nb []string
	for _, x := range sa.Tables {
		na = append(na, x.Name+" "+x.Create)
	}
	for _, x := range sb.Tables {
		nb = append(nb, x.Name+" "+x.Create)
	}
	assert.ElementsMatch(t, na, nb)
	assert.ElementsMatch(t, sa.After, sb.After)
	for _, x := range sa.Tables {
		assert.Equal(t, all(t, a, x.Name), all(t, b, x.Name), "rows of %s", x.Name)
	}
}

func testCopy(t *testing.T, e Engine) {
	db := seed(t, e)
	s, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer s.Close()
	place := t.TempDir()
	_, err = fill(t, s, e.Target(t, place), "")
	require.NoError(t, err)
	c, err := e.Open(t, place).Snapshot(context.Background())
	require.NoError(t, err)
	defer c.Close()
	equal(t, s, c)
	assert.NotEmpty(t, s.Schema().After)
}

func testResume(t *testing.T, e Engine) {
	db := seed(t, e)
	s, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer s.Close()
	place := t.TempDir()
	before, err := fill(t, s, e.Target(t, place), "posts")
	require.ErrorIs(t, err, errStop)
	read, err := fill(t, s, e.Target(t, place), "")
	require.NoError(t, err)
	assert.Contains(t, read, "posts")
	for _, whole := range before[:len(before)-1] {
		assert.NotContains(t, read, whole, "what was loaded is not loaded again")
	}
	c, err := e.Open(t, place).Snapshot(context.Background())
	require.NoError(t, err)
	defer c.Close()
	equal(t, s, c)
}

// testQuery runs statements as a person does: reading lets nothing be written.
func testQuery(t *testing.T, e Engine) {
	ctx := context.Background()
	db := e.Make(t, e.Schema...)
	require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title) VALUES (1, 'one')"))
	q := db.(tables.Querier)
	var got []string
	give := func(columns []string, row []tables.Value) error {
		got = append(got, columns[0]+"="+row[0].String(), row[1].String())
		return nil
	}
	for _, write := range []bool{false, true} {
		got = nil
		_, err := q.Query(ctx, "SELECT title, NULL FROM posts", write, give)
		require.NoError(t, err)
		assert.Equal(t, []string{"title=one", "NULL"}, got)
	}
	for _, s := range []string{"SELECT nothing FROM nowhere", "DELETE FROM posts", "  drop table posts",
		"UPDATE posts SET title='x'", "", "PRAGMA user_version=3", "SET GLOBAL x=1",
		"WITH x AS (SELECT 1) DELETE FROM posts"} {
		_, err := q.Query(ctx, s, false, give)
		assert.Error(t, err, s)
	}
	if e.Far {
		return
	}
	n, err := q.Query(ctx, "UPDATE posts SET title='two'", true, give)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	got = nil
	_, err = q.Query(ctx, "SELECT title, id FROM posts", false, give)
	require.NoError(t, err)
	assert.Equal(t, []string{"title=two", "1"}, got)
}
