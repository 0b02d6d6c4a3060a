package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/tables"
)

// genTable draws a table with rows of every kind of value.
func genTable(t *rapid.T, n int) (create string, rows [][]any, cols int) {
	cols = rapid.IntRange(1, 5).Draw(t, "columns")
	types := []string{"INTEGER", "TEXT", "BLOB", "REAL", "DATETIME", "BOOLEAN", "VARCHAR(20)", ""}
	var defs []string
	for i := range cols {
		defs = append(defs, fmt.Sprintf(`"c %d" %s`, i, rapid.SampledFrom(types).Draw(t, "type")))
	}
	switch rapid.IntRange(0, 2).Draw(t, "key") {
	case 1:
		defs[0] = `"c 0" INTEGER PRIMARY KEY`
	case 2:
		defs[0] = `"c 0" INTEGER PRIMARY KEY AUTOINCREMENT`
	}
	create = fmt.Sprintf(`CREATE TABLE "t%d" (%s)`, n, strings.Join(defs, ", "))
	for i := range rapid.IntRange(0, 30).Draw(t, "rows") {
		row := []any{i*3 - 20}
		for range cols - 1 {
			row = append(row, rapid.OneOf(
				rapid.Just[any](nil),
				rapid.Map(rapid.Int64(), func(v int64) any { return v }),
				rapid.Map(rapid.String(), func(v string) any { return v }),
				rapid.Map(rapid.SliceOf(rapid.Byte()), func(v []byte) any {
					if v == nil {
						return []byte{}
					}
					return v
				}),
				rapid.Map(rapid.Float64(), func(v float64) any { return v }),
			).Draw(t, "value"))
		}
		rows = append(rows, row)
	}
	return create, rows, cols
}

// dump writes all of a database as SQLite itself quotes it.
func dump(t require.TestingT, path string) string {
	db, err := connect(path, "ro")
	require.NoError(t, err)
	defer db.Close()
	var b strings.Builder
	names, err := db.Query("SELECT name, sql FROM sqlite_master WHERE type = 'table' ORDER BY name")
	require.NoError(t, err)
	type table struct{ name, sql string }
	var list []table
	for names.Next() {
		var x table
		var q sql.NullString
		require.NoError(t, names.Scan(&x.name, &q))
		x.sql = q.String
		list = append(list, x)
	}
	names.Close()
	for _, x := range list {
		b.WriteString(x.sql + "\n")
		cols, err := db.Query("SELECT name FROM pragma_table_info(?)", x.name)
		require.NoError(t, err)
		var quoted []string
		for cols.Next() {
			var c string
			require.NoError(t, cols.Scan(&c))
			quoted = append(quoted, "quote("+name(c)+")", "typeof("+name(c)+")")
		}
		cols.Close()
		rows, err := db.Query(
			"SELECT rowid || ' ' || " + strings.Join(quoted, " || ' ' || ") + " FROM " + name(x.name) +
				" ORDER BY rowid",
		)
		require.NoError(t, err)
		for rows.Next() {
			var line string
			require.NoError(t, rows.Scan(&line))
			b.WriteString(line + "\n")
		}
		rows.Close()
	}
	return b.String()
}

func TestAnyDatabaseIsCopiedToTheByte(t *testing.T) {
	ctx := context.Background()
	rapid.Check(t, func(rt *rapid.T) {
		dir := t.TempDir()
		from := filepath.Join(dir, "o.db")
		db, err := connect(from, "rwc", "synchronous(OFF)")
		require.NoError(rt, err)
		for n := range rapid.IntRange(1, 3).Draw(rt, "tables") {
			create, rows, cols := genTable(rt, n)
			_, err := db.Exec(create)
			require.NoError(rt, err, create)
			for _, r := range rows {
				_, err := db.Exec(fmt.Sprintf(`INSERT INTO "t%d" VALUES (%s)`, n,
					strings.TrimSuffix(strings.Repeat("?, ", cols), ", ")), r...)
				require.NoError(rt, err)
			}
		}
		require.NoError(rt, db.Close())
		s, err := Open(at(t, dir), "o.db", dir).Snapshot(ctx)
		require.NoError(rt, err)
		defer s.Close()
		to := NewTarget(filepath.Join(dir, "c.db"))
		_, err = to.Begin(ctx, s.Schema())
		require.NoError(rt, err)
		for _, tab := range s.Schema().Tables {
			require.NoError(rt, to.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
				parts, err := s.Ranges(ctx, tab.Name, 7)
				if err != nil {
					return err
				}
				for _, p := range parts {
					if err := s.Read(ctx, tab.Name, p, put); err != nil {
						return err
					}
				}
				return nil
			}))
		}
		require.NoError(rt, to.Finish(ctx))
		assert.Equal(rt, dump(rt, from), dump(rt, filepath.Join(dir, "c.db")))
	})
}

func TestASnapshotIsConsistentWhileOthersWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "o.db")
	for _, mode := range []string{"DELETE", "WAL"} {
		t.Run(mode, func(t *testing.T) {
			f := file(t, at(t, dir), path, "PRAGMA journal_mode = "+mode, "DROP TABLE IF EXISTS a",
				"DROP TABLE IF EXISTS b", "CREATE TABLE a (n INTEGER)", "CREATE TABLE b (n INTEGER)",
				"INSERT INTO a VALUES (0)", "INSERT INTO b VALUES (0)")
			stop := make(chan struct{})
			var wg sync.WaitGroup
			wg.Add(1)
			go func() { // both tables are always equal, for whoever sees one state
				defer wg.Done()
				db, err := connect(path, "rw", "busy_timeout(5000)", "synchronous(OFF)")
				if err != nil {
					return
				}
				defer db.Close()
				for i := 1; ; i++ {
					select {
					case <-stop:
						return
					case <-time.After(15 * time.Millisecond):
					}
					tx, err := db.Begin()
					if err != nil {
						return
					}
					_, _ = tx.Exec("UPDATE a SET n = ?", i)
					_, _ = tx.Exec("UPDATE b SET n = ?", i)
					_ = tx.Commit()
				}
			}()
			for range 12 {
				s, err := f.Snapshot(context.Background())
				if err != nil {
					assert.ErrorIs(t, err, tables.ErrBusy, "the only excuse")
					continue
				}
				var got []int64
				for _, tab := range []string{"a", "b"} {
					require.NoError(t, s.Read(context.Background(), tab, tables.Range{}, func(r tables.Row) error {
						got = append(got, r.Values[0].Int)
						return nil
					}))
				}
				require.NoError(t, s.Close())
				require.Len(t, got, 2)
				assert.Equal(t, got[0], got[1], "one state, not two")
			}
			close(stop)
			wg.Wait()
		})
	}
}

func TestVisitorsAreNotMadeToWait(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "o.db")
	f := file(
		t,
		at(t, dir),
		path,
		"CREATE TABLE t (v TEXT)",
		"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 50000) INSERT INTO t SELECT 'a row "+
			"with some text in it ' || i FROM n",
	)
	s, err := f.Snapshot(context.Background())
	require.NoError(t, err)
	defer s.Close()
	read := 0
	err = s.Read(context.Background(), "t", tables.Range{}, func(tables.Row) error {
		if read++; read == 100 { // in the middle of a long reading
			db, err := connect(path, "rw") // without any patience
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec("INSERT INTO t VALUES ('a visitor')")
			require.NoError(t, err)
		}
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, 50000, read)
}
