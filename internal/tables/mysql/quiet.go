package mysql

import (
	"context"
	"database/sql"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// Quiet tells of tables when they were made and when somebody wrote to them
// last, by the server's clock, if that was not within the last two seconds: as
// long as a table's times and the number of its rows stay the same nobody has
// written to it (TRUNCATE leaves the times). The server forgets them when it
// starts: of a table that nobody wrote to since, it is told when that was, as
// long as it can't have forgotten otherwise. A table of which that is not
// certain is not among them
// (https://mariadb.com/kb/en/information-schema-tables-table/).
func (d *Database) Quiet(ctx context.Context) (out map[string]string, err error) {
	err = d.once(ctx, func(c *sql.Conn) error {
		now, err := clock(ctx, c)
		if err == nil {
			out, err = quiet(ctx, c, d.name, now, d.under)
		}
		return err
	})
	return out, err
}

// once does something with a connection of its own.
func (d *Database) once(ctx context.Context, do func(*sql.Conn) error) error {
	pool, err := d.login.pool(d.name, 1, nil)
	if err != nil {
		return err
	}
	defer pool.Close()
	c, err := pool.Conn(ctx)
	if err != nil {
		return explain(err)
	}
	defer c.Close()
	return do(c)
}

// Quiet is that of the database when the snapshot was taken.
func (s *snapshot) Quiet(ctx context.Context) (out map[string]string, err error) {
	err = s.short(ctx, func(c conn) error {
		out, err = quiet(ctx, c.Conn, s.database, s.since, s.under)
		return err
	})
	return out, err
}

// Since is what the server's clock said just before the snapshot was taken.
func (s *snapshot) Since() string { return s.since }

// Still names the tables to which nobody has written since two seconds before a time of the server's clock, as far as
// its own times tell. It forgets them when it starts: those of which it knows none were not written to since then.
func (d *Database) Still(ctx context.Context, since string) (map[string]bool, error) {
	out := map[string]bool{}
	return out, d.once(ctx, func(c *sql.Conn) error {
		var status string
		var up int64 // seconds
		if err := c.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Uptime'").Scan(&status, &up); err != nil {
			return explain(err)
		}
		_, _ = c.ExecContext(ctx, "SET SESSION information_schema_stats_expiry = 0") // as in quiet
		list, err := records(ctx, c, "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? "+
			"AND TABLE_TYPE = 'BASE TABLE' AND NOW() - INTERVAL ? SECOND < ? "+
			"AND COALESCE(UPDATE_TIME <= ? - INTERVAL 2 SECOND, ENGINE = 'InnoDB')", d.name, up, since, since)
		for _, r := range list {
			if known, seen := d.under.named(r["TABLE_NAME"]); seen {
				out[known] = true
			}
		}
		return err
	})
}

// clock is the server's time in the session's zone.
func clock(ctx context.Context, c *sql.Conn) (now string, err error) {
	err = c.QueryRowContext(ctx, "SELECT NOW()").Scan(&now)
	return now, explain(err)
}

func quiet(ctx context.Context, c *sql.Conn, database, now string, u under) (map[string]string, error) {
	// MySQL would tell old times; MariaDB does not know it
	_, _ = c.ExecContext(ctx, "SET SESSION information_schema_stats_expiry = 0")
	list, err := records(
		ctx,
		c,
		"SELECT TABLE_NAME, CONCAT(CREATE_TIME, ' ', UPDATE_TIME) AS T FROM information_schema.TABLES WHERE "+
			"TABLE_SCHEMA = ? AND UPDATE_TIME <= ? - INTERVAL 2 SECOND",
		database,
		now,
	)
	if err != nil {
		return nil, err
	}
	started, err := since(ctx, c)
	if err != nil {
		return nil, err
	}
	if started != "" {
		more, err := records(ctx, c, "SELECT TABLE_NAME, CONCAT(CREATE_TIME, ?) AS T FROM information_schema.TABLES "+
			"WHERE TABLE_SCHEMA = ? AND TABLE_TYPE = 'BASE TABLE' AND ENGINE = 'InnoDB' AND UPDATE_TIME IS NULL", started,
			database)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	out := make(map[string]string, len(list))
	for _, r := range list {
		if known, seen := u.named(r["TABLE_NAME"]); seen {
			out[known] = r["T"]
		}
	}
	return out, nil
}

// since says when the server was started, in the form of tables.Started; "" where it may have forgotten that somebody
// wrote to a table since. MariaDB keeps these times as long as it has a table in mind, and puts some out of mind only
// when it has more than table_definition_cache of them. So many, less those that it opens for itself, were never
// opened here.
func since(ctx context.Context, c *sql.Conn) (string, error) {
	var at, room int64
	var version string
	err := c.QueryRowContext(ctx, "SELECT UNIX_TIMESTAMP(), @@table_definition_cache, VERSION()").Scan(&at, &room,
		&version)
	if err != nil {
		return "", explain(err)
	}
	status, err := records(ctx, c, "SHOW GLOBAL STATUS WHERE Variable_name IN ('Uptime', 'Uptime_since_flush_status', "+
		"'Opened_table_definitions')")
	if err != nil {
		return "", err
	}
	is := map[string]int64{}
	for _, r := range status {
		if is[r["VARIABLE_NAME"]], err = strconv.ParseInt(r["VALUE"], 10, 64); err != nil {
			return "", nil
		}
	}
	up, opened := is["Uptime"], is["Opened_table_definitions"]
	counted := is["Uptime_since_flush_status"] == up // else somebody had it count from zero again
	if !strings.Contains(version, "MariaDB") || !counted || up < tables.Settled || opened > room-ownTables {
		return "", nil
	}
	return tables.Started + strconv.FormatInt(at-up, 10), nil
}

// ownTables is how many tables, at most, a server opens for itself without counting them, as for what a crash left.
const ownTables = 50
