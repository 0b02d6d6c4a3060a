package mysql_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/host"
	"alibi/internal/relay"
	"alibi/internal/relay/relaytest"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/tablestest"
)

// throughRelay is the tests' server, reached through a relay that a PHP runs.
func throughRelay(t *testing.T, php string, options ...string) mysql.Login {
	t.Helper()
	if php == apache {
		return throughFolder(t, relaytest.ServeByApache)
	}
	return throughFolder(t, func(t testing.TB) (host.Root, string) { return relaytest.Serve(t, php, options...) })
}

// apache is PHP-FPM behind Apache, with the bounds of a small host.
const apache = "apache"

func throughFolder(t *testing.T, serve func(testing.TB) (host.Root, string)) mysql.Login {
	t.Helper()
	dir, address := serve(t)
	r, err := relay.Put(context.Background(), dir, address, relay.Name(),
		relay.Server{Host: "localhost", Socket: mariadbtest.Socket(), User: "root", Writes: true})
	require.NoError(t, err)
	return mysql.Login{User: "root", Through: r.Connector}
}

// A database is read, filled and changed through a relay as it is otherwise, by either of PHP's extensions.
func TestEngineThroughARelay(t *testing.T) {
	cache, err := real.Cache()
	require.NoError(t, err)
	for _, c := range []struct {
		name, php string
		options   []string
	}{
		{"7.4", filepath.Join(cache, "php", "7.4", "php"), nil},
		{"8.4", filepath.Join(cache, "php", "8.4", "php"), nil},
		{"pdo", "php", []string{"-n", "-d", "extension=pdo", "-d", "extension=mysqlnd", "-d", "extension=pdo_mysql"}},
		{"in little room", "php", []string{"-d", "memory_limit=32M", "-d", "max_execution_time=10", "-d",
			"post_max_size=1M"}},
		{"behind Apache", apache, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			through := throughRelay(t, c.php, c.options...)
			e := engine
			e.Loose = true
			e.Make = func(t *testing.T, statements ...string) tables.Writable {
				name := fmt.Sprintf("made_%x", rand.Uint64())
				newDatabase(t, name, statements...)
				return mysql.Open(through, name)
			}
			e.Target = func(t *testing.T, p string) tables.Target {
				newDatabase(t, place(p))
				return mysql.NewTarget(through, through, place(p))
			}
			e.Open = func(_ *testing.T, p string) tables.Writable { return mysql.Open(through, place(p)) }
			tablestest.Run(t, e)
			changed := tablestest.EditEngine{Schema: engine.Schema,
				Make: func(t *testing.T, statements ...string) (tables.Writable, func() tables.Edit) {
					name := fmt.Sprintf("edited_%x", rand.Uint64())
					newDatabase(t, name, statements...)
					return mysql.Open(through, name), func() tables.Edit { return through.Edit(name) }
				}}
			if c.name == "in little room" { // all else that the extensions do differently is in the others
				tablestest.RunEdit(t, changed)
			}
			tablestest.RunTransact(t, changed)
		})
	}
}

// What was read in a transaction through a relay is the same when it ends, or nothing is written.
func TestRowsThatOthersChangeMeanwhile(t *testing.T) {
	ctx := context.Background()
	through := throughRelay(t, "php")
	db := newDatabase(t, "meanwhile", "CREATE OR REPLACE TABLE a (id INT PRIMARY KEY, v VARCHAR(50)) ENGINE=InnoDB",
		"INSERT INTO a VALUES (1, 'one'), (2, 'two'), (3, 'three')")
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	a, _ := snap.Schema().Table("a")
	edit := through.Edit("meanwhile").(tables.Transactor)
	change := func(meanwhile string) error {
		return edit.Transact(ctx, func(x tables.Transaction) error {
			require.NoError(t, x.Remove(a, [][]tables.Value{tablestest.Number(3)}))
			require.NoError(t, x.Lock(a, [][]tables.Value{tablestest.Number(1), tablestest.Number(3)}, func(r tables.Row) error {
				assert.Equal(t, "1", r.Values[0].String(), "what it removed is not there for it")
				return nil
			}))
			require.NoError(t, db.Exec(ctx, meanwhile))
			return x.Set(a, tablestest.Number(1), tablestest.Labelled(1, "ours"))
		})
	}
	is := func() (out string) {
		_, err := db.Query(ctx, "SELECT GROUP_CONCAT(v ORDER BY id) FROM a", false, func(_ []string, v []tables.Value) error {
			out = v[0].String()
			return nil
		})
		require.NoError(t, err)
		return out
	}
	require.ErrorIs(t, change("UPDATE a SET v = 'theirs' WHERE id = 1"), tables.ErrWaits)
	assert.Equal(t, "theirs,two,three", is(), "nothing was written")
	require.NoError(t, change("UPDATE a SET v = 'another row' WHERE id = 2"))
	assert.Equal(t, "ours,another row", is())
}
