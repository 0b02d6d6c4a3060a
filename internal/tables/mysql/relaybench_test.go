package mysql_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"alibi/internal/relay"
	"alibi/internal/relay/relaytest"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

// BenchmarkRows reads 40,000 rows of about a KiB, as posts have them, by the server's own protocol and through a relay.
func BenchmarkRows(b *testing.B) {
	ctx := context.Background()
	dir, address := relaytest.Serve(b, "php")
	r, err := relay.Put(ctx, dir, address, relay.Name(), relay.Server{Host: "localhost", Socket: mariadbtest.Socket(),
		User: "root"})
	require.NoError(b, err)
	require.NoError(b, mysql.Open(root(), "").Exec(ctx, "CREATE OR REPLACE DATABASE rows_of_posts CHARACTER SET utf8mb4"))
	db := mysql.Open(root(), "rows_of_posts")
	for _, q := range []string{"CREATE TABLE posts (id BIGINT PRIMARY KEY, at DATETIME, title TEXT, body LONGTEXT, n INT)",
		"INSERT INTO posts SELECT seq, NOW(), CONCAT('Post ', seq), REPEAT(CONCAT('tide ', seq, ' '), 90), seq FROM " +
			"seq_1_to_40000"} {
		require.NoError(b, db.Exec(ctx, q))
	}
	for name, l := range map[string]mysql.Login{"direct": root(), "relay": {User: "root", Through: r.Connector}} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				s, err := mysql.Open(l, "rows_of_posts").Snapshot(ctx)
				require.NoError(b, err)
				bytes := int64(0)
				require.NoError(b, s.Read(ctx, "posts", tables.Range{}, func(r tables.Row) error {
					for _, v := range r.Values {
						bytes += int64(len(v.Bytes))
					}
					return nil
				}))
				b.SetBytes(bytes)
				require.NoError(b, s.Close())
			}
		})
	}
}
