package mysql_test

import (
	"context"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/tablestest"
)

func TestMain(m *testing.M) { mariadbtest.Main(m) }

// newDatabase makes an empty database.
func newDatabase(t *testing.T, name string, statements ...string) *mysql.Database {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, mysql.Open(mariadbtest.Root(), "").Exec(ctx, "CREATE DATABASE IF NOT EXISTS `"+name+"` CHARACTER SET utf8mb4"))
	db := mysql.Open(mariadbtest.Root(), name)
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
		return mysql.NewTarget(mariadbtest.Root(), mariadbtest.Root(), place(p))
	},
	Open: func(_ *testing.T, p string) tables.Writable { return mysql.Open(mariadbtest.Root(), place(p)) },
	Schema: []string{
		"CREATE TABLE posts (id BIGINT PRIMARY KEY, title TEXT, body LONGTEXT, n BIGINT, f DOUBLE, b LONGBLOB) ENGINE=InnoDB",
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
