package mysql_test

import (
	"context"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/tablestest"
)

// root is the tests' server, reached as its administrator.
func root() mysql.Login {
	return mysql.Login{Network: "unix", Addr: mariadbtest.Socket(), User: "root"}
}

func TestMain(m *testing.M) { mariadbtest.Main(m) }

// newDatabase makes an empty database.
func newDatabase(t *testing.T, name string, statements ...string) *mysql.Database {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, mysql.Open(root(), "").Exec(ctx,
		"CREATE DATABASE IF NOT EXISTS `"+name+"` CHARACTER SET utf8mb4"))
	db := mysql.Open(root(), name)
	for _, s := range statements {
		require.NoError(t, db.Exec(ctx, s), s)
	}
	return db
}

func place(p string) string {
	h := fnv.New64a()
	h.Write([]byte(p))
	return fmt.Sprintf("place_%x", h.Sum64())
}

var engine = tablestest.Engine{
	Make: func(t *testing.T, statements ...string) tables.Writable {
		return newDatabase(t, fmt.Sprintf("made_%x", rand.Uint64()), statements...)
	},
	Target: func(t *testing.T, p string) tables.Target {
		newDatabase(t, place(p))
		return mysql.NewTarget(root(), root(), place(p))
	},
	Open: func(_ *testing.T, p string) tables.Writable { return mysql.Open(root(), place(p)) },
	Schema: []string{
		"CREATE TABLE posts (id BIGINT PRIMARY KEY, title TEXT, body LONGTEXT, n BIGINT, f DOUBLE, b LONGBLOB) " +
			"ENGINE=InnoDB",
		"CREATE TABLE pairs (a INT, b VARCHAR(40), v TEXT, PRIMARY KEY (a, b))",
		"CREATE TABLE loose (v VARCHAR(100))",
		"CREATE TABLE `odd \"na``me` (`a b` INT PRIMARY KEY)",
		"CREATE TABLE seen (n INT)",
		"CREATE INDEX posts_title ON posts (title(20))",
		"CREATE VIEW titles AS SELECT id, title FROM posts",
		"CREATE TRIGGER posts_seen AFTER INSERT ON posts FOR EACH ROW INSERT INTO seen VALUES (new.id)",
	},
}

func TestEngine(t *testing.T) { tablestest.Run(t, engine) }

var editEngine = tablestest.EditEngine{
	Schema: engine.Schema,
	Make: func(t *testing.T, statements ...string) (tables.Writable, func() tables.Edit) {
		name := fmt.Sprintf("edited_%x", rand.Uint64())
		return newDatabase(t, name, statements...),
			func() tables.Edit { return mysql.Open(root(), name).Login().Edit(name) }
	},
}

func TestEdit(t *testing.T) { tablestest.RunEdit(t, editEngine) }

// counting counts what is written to a connection.
type counting struct {
	net.Conn
	n *atomic.Int64
}

func (c counting) Write(b []byte) (int, error) {
	c.n.Add(int64(len(b)))
	return c.Conn.Write(b)
}

func TestCompressed(t *testing.T) {
	newDatabase(t, "pressed", "CREATE TABLE IF NOT EXISTS c (v LONGTEXT)")
	for _, compress := range []bool{false, true} {
		var n atomic.Int64
		l := mysql.Login{
			Network:  "unix",
			Addr:     root().Addr,
			User:     "root",
			Compress: compress,
			Dial: func(ctx context.Context, network, addr string) (net.Conn, error) {
				c, err := new(net.Dialer).DialContext(ctx, network, addr)
				return counting{c, &n}, err
			},
		}
		require.NoError(t, mysql.Open(l, "pressed").Exec(context.Background(),
			"INSERT INTO c VALUES ('"+strings.Repeat("tide ", 100_000)+"')"))
		assert.Equal(t, compress, n.Load() < 50_000, "%d bytes", n.Load())
	}
}

func TestQuiet(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "quiet", "CREATE OR REPLACE TABLE a (n INT PRIMARY KEY)",
		"CREATE OR REPLACE TABLE b (n INT PRIMARY KEY)", "INSERT INTO a VALUES (1)", "INSERT INTO b VALUES (1)")
	now, err := db.Quiet(ctx)
	require.NoError(t, err)
	assert.Empty(t, now, "somebody may write in the same second")
	var then map[string]string
	require.Eventually(t, func() bool {
		then, err = db.Quiet(ctx)
		return err == nil && len(then) == 2
	}, 60*time.Second, 100*time.Millisecond)
	require.NoError(t, db.Exec(ctx, "ALTER TABLE b ADD KEY (n)"))
	require.NoError(t, db.Exec(ctx, "FLUSH TABLES"))
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	same, err := tables.Quiet(ctx, snap)
	require.NoError(t, err)
	then["b"] = same["b"] // another shape, perhaps
	assert.Equal(t, then, same)
	still, err := tables.Still(ctx, db, tables.Since(snap))
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"a": true, "b": true}, still)
	require.NoError(t, db.Exec(ctx, "UPDATE a SET n = 2"))
	late, err := tables.Quiet(ctx, snap)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"b": then["b"]}, late, "a was written to after the snapshot")
	still, err = tables.Still(ctx, db, tables.Since(snap))
	require.NoError(t, err)
	assert.Equal(t, map[string]bool{"b": true}, still)
	still, err = tables.Still(ctx, db, "2001-02-03 04:05:06")
	require.NoError(t, err)
	assert.Empty(t, still, "the server was started since, and has forgotten what was before")
	require.NoError(t, snap.Close())
}

func TestTablesToWhichNobodyWroteSinceTheServerWasStartedAreQuiet(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "restarted", "CREATE OR REPLACE TABLE a (n INT PRIMARY KEY)",
		"CREATE OR REPLACE TABLE b (n INT PRIMARY KEY)", "INSERT INTO a VALUES (1)", "INSERT INTO b VALUES (1)")
	require.NoError(t, mariadbtest.Stop())
	require.NoError(t, mariadbtest.Start())
	now, err := db.Quiet(ctx)
	require.NoError(t, err)
	assert.Empty(t, now, "just after its start one could take it for another start")
	var then map[string]string
	require.Eventually(t, func() bool {
		then, err = db.Quiet(ctx)
		return err == nil && len(then) == 2
	}, 30*time.Second, 100*time.Millisecond)
	assert.Contains(t, then["a"], tables.Started)
	for range 12 { // whatever the parts of the seconds are
		time.Sleep(170 * time.Millisecond)
		now, err := db.Quiet(ctx)
		require.NoError(t, err)
		assert.True(t, tables.Same(then["a"], now["a"]), "%s and %s", then["a"], now["a"])
	}
	require.NoError(t, db.Exec(ctx, "UPDATE a SET n = 2"))
	now, err = db.Quiet(ctx)
	require.NoError(t, err)
	assert.False(t, tables.Same(then["a"], now["a"]))
	assert.True(t, tables.Same(then["b"], now["b"]))

	require.NoError(t, mariadbtest.Stop())
	require.NoError(t, mariadbtest.Start())
	require.Eventually(t, func() bool {
		now, err = db.Quiet(ctx)
		return err == nil && len(now) == 2
	}, 30*time.Second, 100*time.Millisecond)
	assert.False(t, tables.Same(then["b"], now["b"]), "between the starts somebody may have written to it")

	require.NoError(t, db.Exec(ctx, "FLUSH STATUS"))
	time.Sleep(time.Second)
	flushed, err := db.Quiet(ctx)
	require.NoError(t, err)
	assert.NotContains(t, flushed["b"], tables.Started, "it does not count all that it opened any more")
	require.NoError(t, mariadbtest.Stop())
	require.NoError(t, mariadbtest.Start())
	require.NoError(t, db.Exec(ctx, "SET GLOBAL table_definition_cache = 400"))
	defer func() { require.NoError(t, db.Exec(ctx, "SET GLOBAL table_definition_cache = 20000")) }()
	for i := range 360 {
		require.NoError(t, db.Exec(ctx, fmt.Sprintf("CREATE OR REPLACE TABLE many%d (n INT PRIMARY KEY)", i)))
		require.NoError(t, db.Exec(ctx, fmt.Sprintf("SELECT * FROM many%d", i)))
	}
	time.Sleep(tables.Settled * time.Second)
	now, err = db.Quiet(ctx)
	require.NoError(t, err)
	assert.NotContains(t, now["b"], tables.Started,
		"it may have put a table out of mind, and with it that somebody wrote to it")
}
