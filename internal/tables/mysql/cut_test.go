package mysql_test

import (
	"context"
	"database/sql"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// A line that breaks is known as such wherever it breaks, so that what was under way is taken up again.
func TestALineThatBreaksIsKnownEverywhere(t *testing.T) {
	ctx := context.Background()
	pool, err := root().Pool()
	require.NoError(t, err)
	defer pool.Close()
	cut := func(c *sql.Conn) {
		var id int64
		require.NoError(t, c.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id))
		_, err := pool.ExecContext(ctx, "KILL "+strconv.FormatInt(id, 10))
		require.NoError(t, err)
	}
	for what, broken := range map[string]func(c *sql.Conn) error{
		"a statement": func(c *sql.Conn) error {
			cut(c)
			_, err := c.ExecContext(ctx, "SET @a = 1")
			return err
		},
		"a query": func(c *sql.Conn) error {
			cut(c)
			_, err := c.QueryContext(ctx, "SELECT 1")
			return err
		},
		"rows": func(c *sql.Conn) error {
			var id int64
			require.NoError(t, c.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id))
			rows, err := c.QueryContext(ctx, "SELECT seq, REPEAT('x', 1000) FROM seq_1_to_1000000")
			require.NoError(t, err)
			defer rows.Close()
			_, err = pool.ExecContext(ctx, "KILL "+strconv.FormatInt(id, 10))
			require.NoError(t, err)
			for rows.Next() {
			}
			return rows.Err()
		},
		"a transaction that begins": func(c *sql.Conn) error {
			cut(c)
			_, err := c.BeginTx(ctx, nil)
			return err
		},
		"a transaction that ends": func(c *sql.Conn) error {
			var id int64
			require.NoError(t, c.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id))
			tx, err := c.BeginTx(ctx, nil)
			require.NoError(t, err)
			_, err = pool.ExecContext(ctx, "KILL "+strconv.FormatInt(id, 10))
			require.NoError(t, err)
			return tx.Commit()
		},
	} {
		t.Run(what, func(t *testing.T) {
			c, err := pool.Conn(ctx)
			require.NoError(t, err)
			defer c.Close()
			assert.ErrorIs(t, broken(c), tables.ErrAway)
		})
	}
}
