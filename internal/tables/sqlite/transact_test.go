package sqlite

import (
	"context"
	"errors"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/tables"
	"alibi/internal/tables/tablestest"
)

func TestTransact(t *testing.T) { tablestest.RunTransact(t, editEngine) }

// afar is a file's folder as one of another machine is seen.
type afar struct{ host.Root }

func TestTransactByPHPWhereTheFileIs(t *testing.T) {
	e := editEngine
	e.Make = func(t *testing.T, st ...string) (tables.Writable, func() tables.Edit) {
		dir := t.TempDir()
		f := file(t, at(t, dir), filepath.Join(dir, "o.db"), st...)
		return f, func() tables.Edit {
			return NewEdit(afar{at(t, dir)}, "o.db", ".edit", t.TempDir(), time.Now(), local.New("pier"))
		}
	}
	tablestest.RunTransact(t, e)
}

func TestValuesPassUnchanged(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	f := file(t, at(t, dir), filepath.Join(dir, "o.db"), "CREATE TABLE a (id INTEGER PRIMARY KEY, v)")
	snap, err := f.Snapshot(ctx)
	require.NoError(t, err)
	a, _ := snap.Schema().Table("a")
	require.NoError(t, snap.Close())
	bytes := func(k tables.Kind, s string) tables.Value { return tables.Value{Kind: k, Bytes: []byte(s)} }
	values := []tables.Value{{}, {Kind: tables.Int, Int: math.MinInt64}, {Kind: tables.Float, Float: 0.1},
		{Kind: tables.Float, Float: math.MaxFloat64}, {Kind: tables.Float, Float: math.Inf(-1)},
		bytes(tables.Text, ""), bytes(tables.Text, "it's ünï\n\\"), bytes(tables.Text, "a\x00b"),
		bytes(tables.Text, "\xff"), bytes(tables.Blob, "\x00\xff"), bytes(tables.Blob, "")}
	for i, far := range []host.Root{at(t, dir), afar{at(t, dir)}} {
		edit := NewEdit(far, "o.db", "m", t.TempDir(), time.Now(), local.New("pier")).(tables.Transactor)
		require.NoError(t, edit.Transact(ctx, func(x tables.Transaction) error {
			var rows []tables.Row
			var keys [][]tables.Value
			for n, v := range values {
				keys = append(keys, tablestest.Number(int64(i*100+n)))
				rows = append(rows, tables.Row{Values: append(tables.Keep(keys[n]), v)})
			}
			require.NoError(t, x.Put(a, rows))
			n := 0
			require.NoError(t, x.Lock(a, keys, func(r tables.Row) error {
				assert.True(t, values[n].Equal(r.Values[1]), "%d: %v is %v", n, values[n], r.Values[1])
				n++
				return nil
			}))
			assert.Equal(t, len(values), n)
			return nil
		}))
	}
}

// other is another process that writes to the file of a database: the tests themselves, started once more.
func TestMain(m *testing.M) {
	if path := os.Getenv("ALIBI_TEST_WRITES"); path != "" {
		db, err := connect(path, "rw", "busy_timeout(30000)")
		if err == nil {
			_, err = db.Exec(os.Getenv("ALIBI_TEST_SQL"))
		}
		if err != nil {
			os.Stderr.WriteString(err.Error())
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func other(path, sql string) *exec.Cmd {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "ALIBI_TEST_WRITES="+path, "ALIBI_TEST_SQL="+sql)
	return cmd
}

func TestOthersWaitWhileRowsAreChanged(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	path := filepath.Join(dir, "o.db")
	f := file(t, at(t, dir), path, "CREATE TABLE a (id INTEGER PRIMARY KEY, v INTEGER)", "INSERT INTO a VALUES (1, 1)")
	edit := NewEdit(at(t, dir), "o.db", "m", t.TempDir(), time.Now(), nil).(tables.Transactor)
	a := tables.Table{Name: "a", Key: []string{"id"}, Columns: []tables.Column{{Name: "id"}, {Name: "v"}}}
	writer := other(path, "UPDATE a SET v = v + 1 WHERE id = 1")
	looked := make(chan error, 1)
	require.NoError(t, edit.Transact(ctx, func(x tables.Transaction) error {
		require.NoError(t, x.Set(a, tablestest.Number(1), tables.Row{Values: append(tablestest.Number(1),
			tables.Value{Kind: tables.Int, Int: 10})}))
		require.NoError(t, writer.Start())
		go func() { // a look of ours would let go of the lock
			_, err := f.Stamp(ctx)
			looked <- err
		}()
		select {
		case <-looked:
			assert.Fail(t, "the file was opened while its rows were changed")
		case <-time.After(300 * time.Millisecond):
		}
		return nil
	}))
	require.NoError(t, <-looked)
	require.NoError(t, writer.Wait())
	db, err := connect(path, "rw")
	require.NoError(t, err)
	defer db.Close()
	var v int
	require.NoError(t, db.QueryRow("SELECT v FROM a").Scan(&v))
	assert.Equal(t, 11, v, "neither is lost")
}

var errBegun = errors.New("it was begun")

func TestAFileThatOthersHoldIsLeft(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "o.db")
	file(t, at(t, dir), path, "CREATE TABLE a (id INTEGER PRIMARY KEY, v INTEGER)")
	db, err := connect(path, "rw")
	require.NoError(t, err)
	defer db.Close()
	c, err := db.Conn(context.Background())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.ExecContext(context.Background(), "BEGIN IMMEDIATE")
	require.NoError(t, err)
	ctx, stop := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer stop()
	err = NewEdit(at(t, dir), "o.db", "m", t.TempDir(), time.Now(), nil).(tables.Transactor).Transact(ctx,
		func(tables.Transaction) error { return errBegun })
	require.Error(t, err)
	assert.NotErrorIs(t, err, errBegun, "nothing was begun")
}
