package mysql_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/relay"
	"alibi/internal/tables/relay/relaytest"
	"alibi/internal/tables/tablestest"
)

// relayed is a database that is written to directly, and read through a relay.
type relayed struct {
	*mysql.Database
	by *mysql.Database
}

func (r relayed) Snapshot(ctx context.Context) (tables.Snapshot, error) { return r.by.Snapshot(ctx) }
func (r relayed) Stamp(ctx context.Context) (string, error)             { return r.by.Stamp(ctx) }

// A database that is read through a relay gives what it gives otherwise, by either of PHP's extensions.
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
		{"in little room", "php", []string{"-d", "memory_limit=32M", "-d", "max_execution_time=10"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir, address := relaytest.Serve(t, c.php, c.options...)
			r, err := relay.Put(context.Background(), dir, address, relay.Name(),
				relay.Server{Host: "localhost", Socket: mariadbtest.Socket(), User: "root"})
			require.NoError(t, err)
			e := engine
			e.Loose = true
			through := mysql.Login{User: "root", Through: r.Connector}
			e.Make = func(t *testing.T, statements ...string) tables.Writable {
				name := fmt.Sprintf("made_%x", rand.Uint64())
				return relayed{newDatabase(t, name, statements...), mysql.Open(through, name)}
			}
			e.Open = func(_ *testing.T, p string) tables.Writable {
				return relayed{mysql.Open(root(), place(p)), mysql.Open(through, place(p))}
			}
			tablestest.Run(t, e)
		})
	}
}
