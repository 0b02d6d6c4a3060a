package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"sort"
	"strings"

	"alibi/internal/tables"
)

// queryer is a connection.
type queryer interface {
	QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error)
}

// records runs a query and gives each row's cells by column name, as text; a
// NULL is absent.
func records(ctx context.Context, db queryer, q string, args ...any) ([]map[string]string, error) {
	rows, err := db.QueryContext(ctx, q, args...)
	if err != nil {
		return nil, explain(err)
	}
	defer rows.Close()
	cols, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	cells := make([]sql.NullString, len(cols))
	dest := make([]any, len(cols))
	for i := range dest {
		dest[i] = &cells[i]
	}
	var out []map[string]string
	for rows.Next() {
		if err := rows.Scan(dest...); err != nil {
			return nil, err
		}
		m := make(map[string]string, len(cols))
		for i, c := range cells {
			if c.Valid {
				m[strings.ToUpper(cols[i])] = c.String
			}
		}
		out = append(out, m)
	}
	return out, explain(rows.Err())
}

// shape is a schema with what only this engine knows.
type shape struct {
	tables.Schema
	columns map[string][]column
}

// readShape reads the schema of the connection's database.
func readShape(ctx context.Context, db queryer, database string, u under) (*shape, error) {
	s := &shape{Schema: tables.Schema{Engine: "mysql", Settings: map[string]string{}}, columns: map[string][]column{}}
	rec, err := records(ctx, db, "SELECT @@character_set_database AS cs, @@collation_database AS co, @@version AS v")
	if err != nil {
		return nil, err
	}
	s.Settings["charset"], s.Settings["collation"], s.Settings["version"] = rec[0]["CS"], rec[0]["CO"], rec[0]["V"]
	list, err := records(
		ctx,
		db,
		"SELECT TABLE_NAME, TABLE_TYPE, DATA_LENGTH + INDEX_LENGTH AS BYTES, TABLE_COLLATION FROM "+
			"information_schema.TABLES WHERE TABLE_SCHEMA = ? ORDER BY TABLE_NAME",
		database,
	)
	if err != nil {
		return nil, err
	}
	if err := s.readColumns(ctx, db, database); err != nil {
		return nil, err
	}
	keys, err := readKeys(ctx, db, database, s.columns)
	if err != nil {
		return nil, err
	}
	var views []string
	collation := map[string]string{}
	for _, r := range list {
		stored := r["TABLE_NAME"]
		known, seen := u.named(stored)
		t := tables.Table{Name: known, Key: keys[stored]}
		switch {
		case !seen:
			continue
		case r["TABLE_TYPE"] == "VIEW":
			views = append(views, t.Name)
			continue
		case r["TABLE_TYPE"] == "SEQUENCE":
			s.Problems = append(s.Problems, "the sequence "+t.Name+
				" is not copied: Alibi copies tables, views, triggers, routines and events")
			continue
		}
		if r["TABLE_TYPE"] == "SYSTEM VERSIONED" {
			s.Problems = append(s.Problems, "of the table "+t.Name+
				" only the present rows are copied, not their history")
		}
		fmt.Sscan(r["BYTES"], &t.Bytes)
		collation[known] = r["TABLE_COLLATION"]
		if known != stored {
			t.Stored, s.columns[known] = stored, s.columns[stored]
		}
		for _, c := range s.columns[stored] {
			t.Columns = append(t.Columns, c.Column)
		}
		if t.Create, err = showCreate(ctx, db, "TABLE", stored, "CREATE TABLE"); err != nil {
			return nil, fmt.Errorf("table %s: %w", stored, err)
		}
		t.Create = strings.Replace(t.Create, name(stored), name(known), 1)
		s.Tables = append(s.Tables, t)
	}
	if u.active() {
		s.narrow(views)
	} else if err := s.readAfter(ctx, db, database, views); err != nil {
		return nil, err
	}
	for i, t := range s.Tables {
		s.Tables[i].Definition = define(t.Create, collation[t.Name], s.columns[t.Name])
	}
	return s, nil
}

func showCreate(ctx context.Context, db queryer, kind, what, column string) (string, error) {
	rec, err := records(ctx, db, "SHOW CREATE "+kind+" "+name(what))
	if err != nil {
		return "", err
	}
	if len(rec) == 0 || rec[0][strings.ToUpper(column)] == "" {
		return "", fmt.Errorf("%w: its definition is not shown to this account", tables.ErrRefused)
	}
	return rec[0][strings.ToUpper(column)], nil
}

// generated are the words by which a column is known that the server computes.
var generated = regexp.MustCompile(`(?i)\b(VIRTUAL|STORED|PERSISTENT)( GENERATED)?\b`)

func (s *shape) readColumns(ctx context.Context, db queryer, database string) error {
	list, err := records(
		ctx,
		db,
		"SELECT TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, CHARACTER_SET_NAME, COLLATION_NAME, EXTRA FROM "+
			"information_schema.COLUMNS WHERE TABLE_SCHEMA = ? ORDER BY TABLE_NAME, ORDINAL_POSITION",
		database,
	)
	if err != nil {
		return err
	}
	for _, r := range list {
		if generated.MatchString(r["EXTRA"]) {
			continue
		}
		c := tables.Column{
			Name:      r["COLUMN_NAME"],
			Type:      r["COLUMN_TYPE"],
			Charset:   r["CHARACTER_SET_NAME"],
			Collation: r["COLLATION_NAME"],
		}
		s.columns[r["TABLE_NAME"]] = append(s.columns[r["TABLE_NAME"]], newColumn(c))
	}
	return nil
}

// readKeys gives for each table the columns that a row is known by: those of
// the primary key, or of the first unique one that allows no NULL. A key over
// the beginnings of texts, or over generated columns, is none.
func readKeys(
	ctx context.Context,
	db queryer,
	database string,
	columns map[string][]column,
) (map[string][]string, error) {
	list, err := records(
		ctx,
		db,
		"SELECT TABLE_NAME, INDEX_NAME, COLUMN_NAME, SUB_PART, NULLABLE FROM information_schema.STATISTICS WHERE "+
			"TABLE_SCHEMA = ? AND NON_UNIQUE = 0 ORDER BY TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, "+
			"SEQ_IN_INDEX",
		database,
	)
	if err != nil {
		return nil, err
	}
	type index struct{ table, name string }
	var order []index
	parts := map[index][]string{}
	unfit := map[index]bool{}
	for _, r := range list {
		i := index{r["TABLE_NAME"], r["INDEX_NAME"]}
		if parts[i] == nil {
			order = append(order, i)
		}
		parts[i] = append(parts[i], r["COLUMN_NAME"])
		_, part := r["SUB_PART"]
		known := false
		for _, c := range columns[i.table] {
			known = known || c.Name == r["COLUMN_NAME"]
		}
		unfit[i] = unfit[i] || part || r["NULLABLE"] == "YES" || !known
	}
	out := map[string][]string{}
	for _, i := range order {
		if out[i.table] == nil && !unfit[i] {
			out[i.table] = parts[i]
		}
	}
	return out, nil
}

// unseen tells of which kinds of things an account is shown nothing, whether
// there are any or not.
func unseen(ctx context.Context, db queryer, database string) ([]string, error) {
	list, err := grants(ctx, db)
	if err != nil {
		return nil, err
	}
	missing := map[string]bool{"TRIGGER": true, "EVENT": true, "EXECUTE": true}
	for _, g := range list {
		if g.on != "*.*" && g.on != name(database)+".*" {
			continue
		}
		for _, p := range strings.Split(g.what, ", ") {
			if p == "ALL PRIVILEGES" {
				return nil, nil
			}
			delete(missing, p)
		}
	}
	return slices.Sorted(maps.Keys(missing)), nil
}

// readAfter reads views, triggers, routines and events.
func (s *shape) readAfter(ctx context.Context, db queryer, database string, views []string) error {
	hidden, err := unseen(ctx, db, database)
	if err != nil {
		return err
	}
	kind := map[string]string{"TRIGGER": "triggers", "EVENT": "events", "EXECUTE": "routines"}
	for _, right := range hidden {
		s.Problems = append(
			s.Problems,
			fmt.Sprintf("if there are %s they are not copied: the account on the origin is shown none without "+
				"the right %s", kind[right], right),
		)
	}
	s.readViews(ctx, db, database, views)
	if err := s.readOthers(ctx, db, database); err != nil {
		return err
	}
	order := map[string]int{"function": 0, "procedure": 1, "view": 2, "trigger": 3, "event": 4}
	sort.SliceStable(s.After, func(i, j int) bool { return order[s.After[i].Kind] < order[s.After[j].Kind] })
	return nil
}

// readViews reads how views are defined.
func (s *shape) readViews(ctx context.Context, db queryer, database string, views []string) {
	for _, v := range views {
		sql, err := showCreate(ctx, db, "VIEW", v, "CREATE VIEW")
		if err == nil {
			_, err = records(ctx, db, "SELECT * FROM "+name(v)+" LIMIT 0")
		}
		if errors.Is(err, tables.ErrRefused) {
			s.Problems = append(
				s.Problems, fmt.Sprintf("the view %s is not copied: this account may not see its definition", v),
			)
			s.Hidden = append(s.Hidden, tables.Object{Kind: "view", Name: v})
			continue
		}
		if err != nil {
			s.Problems = append(
				s.Problems, fmt.Sprintf("the view %s is not copied: it does not work on the origin either (%v)", v,
					err),
			)
			continue
		}
		s.After = append(s.After, tables.Object{Kind: "view", Name: v, SQL: canonical(sql, database)})
	}
}

// others are what hangs on tables beside views.
var others = []struct{ kind, list, name, column string }{
	{
		"trigger",
		"SELECT TRIGGER_NAME AS N, EVENT_OBJECT_TABLE AS T FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA " +
			"= ? ORDER BY EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_TIMING, ACTION_ORDER",
		"TRIGGER",
		"SQL Original Statement",
	},
	{
		"procedure",
		"SELECT ROUTINE_NAME AS N FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = " +
			"'PROCEDURE' ORDER BY 1",
		"PROCEDURE",
		"Create Procedure",
	},
	{
		"function",
		"SELECT ROUTINE_NAME AS N FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ? AND ROUTINE_TYPE = " +
			"'FUNCTION' ORDER BY 1",
		"FUNCTION",
		"Create Function",
	},
	{
		"event",
		"SELECT EVENT_NAME AS N FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1",
		"EVENT",
		"Create Event",
	},
}

// readOthers reads triggers, routines and events.
func (s *shape) readOthers(ctx context.Context, db queryer, database string) error {
	for _, k := range others {
		list, err := records(ctx, db, k.list, database)
		if err != nil {
			return err
		}
		for _, r := range list {
			if _, mine := s.Table(r["T"]); k.kind == "trigger" && !mine {
				continue
			}
			rec, err := records(ctx, db, "SHOW CREATE "+k.name+" "+name(r["N"]))
			if err != nil || len(rec) == 0 || rec[0][strings.ToUpper(k.column)] == "" {
				s.Problems = append(
					s.Problems, fmt.Sprintf("the %s %s is not copied: this account may not see its definition", k.kind,
						r["N"]),
				)
				s.Hidden = append(s.Hidden, tables.Object{Kind: k.kind, Name: r["N"]})
				continue
			}
			sql := canonical(rec[0][strings.ToUpper(k.column)], database)
			if k.kind == "event" {
				sql = asleep(sql) // a copy does nothing by itself
			}
			s.After = append(s.After, tables.Object{Kind: k.kind, Name: r["N"], Table: r["T"], SQL: sql,
				Mode: rec[0]["SQL_MODE"]})
		}
	}
	return nil
}
