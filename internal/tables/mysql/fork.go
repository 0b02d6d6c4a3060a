package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
)

// Fork makes in an empty database a second set of another one's tables, inside
// the server: columns, keys and rows, without foreign keys, views and triggers.
func (l Login) Fork(ctx context.Context, from, to string) error {
	return l.alone(ctx, "forking", to, func(c *sql.Conn) error {
		if err := execAll(ctx, c, []string{"SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO'",
			"SET SESSION foreign_key_checks = 0", "SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED"}); err !=
			nil {
			return err
		}
		list, err := stored(ctx, c, from)
		if err != nil {
			return err
		}
		for _, t := range list {
			source, target := name(from)+"."+name(t.table), name(to)+"."+name(t.table)
			cols := names(t.columns)
			if err := execAll(ctx, c, []string{"CREATE TABLE " + target + " LIKE " + source,
				"INSERT INTO " + target + " (" + cols + ") SELECT " + cols + " FROM " + source}); err != nil {
				return fmt.Errorf("table %s: %w", t.table, err)
			}
		}
		return nil
	})
}

// columned is a table with the columns that are stored.
type columned struct {
	table   string
	columns []string
}

func stored(ctx context.Context, c *sql.Conn, database string) (out []columned, err error) {
	rows, err := c.QueryContext(
		ctx,
		"SELECT c.TABLE_NAME, c.COLUMN_NAME, c.EXTRA FROM information_schema.COLUMNS c JOIN "+
			"information_schema.TABLES t ON t.TABLE_SCHEMA = c.TABLE_SCHEMA AND t.TABLE_NAME = c.TABLE_NAME WHERE "+
			"c.TABLE_SCHEMA = ? AND t.TABLE_TYPE = 'BASE TABLE' ORDER BY c.TABLE_NAME, c.ORDINAL_POSITION",
		database,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var table, column, extra string
		if err := rows.Scan(&table, &column, &extra); err != nil {
			return nil, err
		}
		if ours(table) {
			continue
		}
		if len(out) == 0 || out[len(out)-1].table != table {
			out = append(out, columned{table: table})
		}
		if !strings.Contains(strings.ToUpper(extra), "GENERATED") {
			t := &out[len(out)-1]
			t.columns = append(t.columns, column)
		}
	}
	return out, rows.Err()
}
