package desk

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"alibi/internal/printable"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// TableRow is a table of a site.
type TableRow struct {
	Name    string   `json:"name"`
	Rows    int64    `json:"rows"`
	Bytes   int64    `json:"bytes"`
	Key     []string `json:"key,omitempty"`
	Columns []string `json:"columns"`
	// of the origin's, when it was inspected; -1: it has none, or there is no origin
	Origin int64 `json:"origin_rows"`
}

// Tables lists the tables of a site, the largest first.
func (d *Hands) Tables(ctx context.Context, id site.ID) ([]TableRow, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	was := map[string]int64{}
	if o, err := d.record.Site(ctx, s.Origin); err == nil && o.Facts != nil {
		for _, t := range o.Facts.Tables {
			was[t.Name] = t.Rows
		}
	}
	out := []TableRow{}
	err = d.database(ctx, s, func(_ stack.Stack, snap tables.Snapshot) error {
		for _, t := range snap.Schema().Tables {
			r := TableRow{Name: t.Name, Rows: t.Rows, Bytes: t.Bytes, Key: t.Key, Origin: -1}
			if n, has := was[t.Name]; has {
				r.Origin = n
			}
			for _, c := range t.Columns {
				r.Columns = append(r.Columns, c.Name)
			}
			out = append(out, r)
		}
		return nil
	})
	slices.SortStableFunc(out, func(a, b TableRow) int { return int(min(1, max(-1, b.Bytes-a.Bytes))) })
	return out, err
}

// Rows is a part of a table, or the result of a statement.
type Rows struct {
	Table   string   `json:"table,omitempty"`
	Columns []string `json:"columns"`
	Rows    [][]Cell `json:"rows"`
	More    bool     `json:"more,omitempty"` // there are further ones
	Seen    int64    `json:"seen"`           // rows that were looked at
	Changed int64    `json:"changed,omitempty"`
}

// Cell is a value for people; nil is NULL.
type Cell *string

// cell writes a value; what is no text is written in hexadecimal.
func cell(v tables.Value) Cell {
	if v.Kind == tables.Null {
		return nil
	}
	s := v.String()
	if !utf8.ValidString(s) {
		s = fmt.Sprintf("0x%x", s)
	}
	return &s
}

// Where chooses rows: those with a text in a column, or in any ("").
type Where struct {
	Column string
	Text   string
	Exact  bool // the column is just the text
}

func (w Where) takes(t tables.Table, r tables.Row) bool {
	if w.Text == "" && !w.Exact {
		return true
	}
	for i, v := range r.Values {
		if w.Column != "" && t.Columns[i].Name != w.Column {
			continue
		}
		if s := v.String(); w.Exact && s == w.Text ||
			!w.Exact && strings.Contains(strings.ToLower(s), strings.ToLower(w.Text)) {
			return true
		}
	}
	return false
}

// TableRows reads rows of a table, in the order of its key, after skipping some.
// The site is only read.
func (d *Hands) TableRows(ctx context.Context, id site.ID, table string, w Where, skip, limit int) (Rows, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return Rows{}, err
	}
	out := Rows{Table: table, Rows: [][]Cell{}}
	enough := errors.New("enough")
	err = d.database(ctx, s, func(_ stack.Stack, snap tables.Snapshot) error {
		t, ok := snap.Schema().Table(table)
		if !ok {
			return fmt.Errorf("%s has no table %q; see: alibi tables %s", s.Name, table, s.Name)
		}
		for _, c := range t.Columns {
			out.Columns = append(out.Columns, c.Name)
		}
		if w.Column != "" && t.Column(w.Column) < 0 {
			return fmt.Errorf("%s has no column %q; it has %s", table, w.Column, strings.Join(out.Columns, ", "))
		}
		found := 0
		err := snap.Read(ctx, table, tables.Range{}, func(r tables.Row) error {
			out.Seen++
			if !w.takes(t, r) {
				return ctx.Err()
			}
			if found++; found <= skip {
				return nil
			}
			if len(out.Rows) == limit {
				out.More = true
				return enough
			}
			row := make([]Cell, len(r.Values))
			for i, v := range r.Values {
				row[i] = cell(v)
			}
			out.Rows = append(out.Rows, row)
			return ctx.Err()
		})
		if errors.Is(err, enough) {
			return nil
		}
		return err
	})
	return out, err
}

// ErrLocked is given for a statement that writes, where that was not unlocked.
var ErrLocked = errors.New("nothing was done: this statement may write")

// Query runs one statement in the database of a site, with a bound on rows. It
// can write only on a copy, and only if write unlocks that.
func (d *Hands) Query(ctx context.Context, id site.ID, statement string, write bool, limit int) (Rows, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return Rows{}, err
	}
	why := tables.OnlyReads(statement)
	writes := why != nil
	switch {
	case writes && s.Role == site.Live:
		return Rows{}, fmt.Errorf("%w, and %s is a live site: %w", ErrLocked, s.Name, why)
	case writes && !write:
		return Rows{}, fmt.Errorf("%w: %w; unlock it with --write, where it is meant", ErrLocked, why)
	case writes && (s.Run != "" || s.Database.Beside()):
		return Rows{}, fmt.Errorf("%w, and %s has a run at work (%s), or stands in the database of its origin",
			ErrLocked, s.Name, s.Run)
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return Rows{}, err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return Rows{}, err
	}
	defer p.Root.Close()
	db, err := stack.OpenDatabase(ctx, st, p, s.Database)
	if err != nil {
		return Rows{}, err
	}
	q, ok := db.(tables.Querier)
	if !ok {
		return Rows{}, fmt.Errorf("statements can't be run in the database of %s", s.Name)
	}
	if s.Role == site.Live {
		if err := d.log(ctx, id, "query", "a statement by hand: %s", Short(&statement, 300)); err != nil {
			return Rows{}, err
		}
	}
	out := Rows{Rows: [][]Cell{}}
	enough := errors.New("enough")
	out.Changed, err = q.Query(ctx, statement, writes, func(columns []string, row []tables.Value) error {
		out.Columns = columns
		if len(out.Rows) == limit {
			out.More = true
			return enough
		}
		out.Seen++
		cells := make([]Cell, len(row))
		for i, v := range row {
			cells[i] = cell(v)
		}
		out.Rows = append(out.Rows, cells)
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	if err != nil {
		return out, fmt.Errorf("the database of %s says: %w", s.Name, err)
	}
	if writes {
		return out, d.log(ctx, id, "statement", "%d rows changed by: %s", out.Changed, statement)
	}
	return out, nil
}

// CSV writes rows as comma-separated values (RFC 4180); NULL is empty.
func (r Rows) CSV(w io.Writer) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	if err := c.Write(r.Columns); err != nil {
		return err
	}
	line := make([]string, len(r.Columns))
	for _, row := range r.Rows {
		for i, x := range row {
			line[i] = ""
			if x != nil {
				line[i] = *x
			}
		}
		if err := c.Write(line); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// Short writes a value on one line, with at most n letters.
func Short(c Cell, n int) string {
	if c == nil {
		return "NULL"
	}
	s := []rune(printable.Line(strings.NewReplacer("\r\n", " ", "\n", " ", "\r", " ", "\t", " ").Replace(*c)))
	if len(s) > n {
		return string(s[:n-3]) + "..."
	}
	return string(s)
}
