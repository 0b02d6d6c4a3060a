package sqlite

import (
	"context"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"alibi/internal/host"
	"alibi/internal/tables"
)

var _ tables.Transactor = (*edit)(nil)

// writing are the files that this process changes now, by path. The system lets go of all locks that a process has on
// a file when the process closes that file anywhere, so that nothing of ours may open it to read meanwhile.
var writing sync.Map // of *sync.RWMutex

func lockOf(path string) *sync.RWMutex {
	l, _ := writing.LoadOrStore(path, new(sync.RWMutex))
	return l.(*sync.RWMutex)
}

// Transactional tells of tables of which SQLite itself keeps the rows, known by what a site gives them.
func (e *edit) Transactional(t tables.Table) bool { return !t.Hidden && !t.Counters && len(t.Key) > 0 }

// Transact changes rows of the file where it is, as the site's own code does: readers go on, and other writers wait
// for as long as SQLite lets them.
func (e *edit) Transact(ctx context.Context, change func(tables.Transaction) error) error {
	at := filepath.Join(e.dir.Path(), e.file)
	open := e.openFar
	if host.IsNear(e.dir) {
		lock := lockOf(at)
		lock.Lock()
		defer lock.Unlock()
		open = openNear
	}
	s, err := open(ctx, at)
	if err != nil {
		return err
	}
	defer s.close()
	if err := change(&transaction{s}); err != nil {
		return err // what is not ended is not done
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return s.run("COMMIT", nil)
}

// session is a transaction that was begun on a file. Closing it ends it with nothing changed.
type session interface {
	// run runs a statement and gives the rows of its answer.
	run(statement string, give func([]string) error) error
	close()
}

// transaction has the file's one writer's lock: nothing of it changes but by us.
type transaction struct{ session }

// keyed is the condition for a row with a key.
func keyed(t tables.Table, key []tables.Value) []byte {
	out := []byte(" WHERE ")
	for i, k := range t.Key {
		if i > 0 {
			out = append(out, " AND "...)
		}
		out = literal(append(out, name(k)+" IS "...), key[i])
	}
	return out
}

// told is a column as a text that says its type first.
func told(column string) string {
	c := name(column)
	return "CASE typeof(" + c + ") WHEN 'integer' THEN 'i' || " + c + " WHEN 'real' THEN 'f' || printf('%!.17e', " + c +
		") WHEN 'text' THEN 't' || hex(" + c + ") WHEN 'blob' THEN 'b' || hex(" + c + ") ELSE 'n' END"
}

// heard reads what told says.
func heard(s string) (v tables.Value, err error) {
	if s == "" {
		return v, fmt.Errorf("a value was not told")
	}
	switch kind, rest := s[0], s[1:]; kind {
	case 'i':
		v.Kind = tables.Int
		v.Int, err = strconv.ParseInt(rest, 10, 64)
	case 'f':
		v.Kind = tables.Float
		v.Float, err = strconv.ParseFloat(rest, 64)
	case 't', 'b':
		v.Kind = tables.Text
		if kind == 'b' {
			v.Kind = tables.Blob
		}
		v.Bytes, err = hex.DecodeString(rest)
	}
	return v, err
}

func (x *transaction) Lock(t tables.Table, keys [][]tables.Value, give func(tables.Row) error) error {
	var cols []string
	for _, c := range t.Key {
		cols = append(cols, told(c))
	}
	for _, c := range t.Columns {
		cols = append(cols, told(c.Name))
	}
	n := len(t.Key)
	for _, key := range keys {
		q := "SELECT " + strings.Join(cols, ", ") + " FROM " + name(t.Name) + string(keyed(t, key))
		if err := x.run(q, func(row []string) error {
			var v []tables.Value
			for _, s := range row {
				is, err := heard(s)
				if err != nil {
					return fmt.Errorf("table %s: %w", t.Name, err)
				}
				v = append(v, is)
			}
			if len(v) != len(cols) {
				return fmt.Errorf("table %s: a row of %d values came as one of %d", t.Name, len(cols), len(v))
			}
			return give(tables.Row{Key: v[:n], Values: v[n:]})
		}); err != nil {
			return err
		}
	}
	return nil
}

func (x *transaction) Put(t tables.Table, rows []tables.Row) error {
	var cols []string
	for _, c := range t.Columns {
		cols = append(cols, c.Name)
	}
	for _, r := range rows {
		q := []byte("INSERT INTO " + name(t.Name) + " (" + quoted(cols) + ") VALUES (")
		for i, v := range r.Values {
			if i > 0 {
				q = append(q, ", "...)
			}
			q = literal(q, v)
		}
		if err := x.change(t, append(q, ')')); err != nil {
			return err
		}
	}
	return nil
}

func (x *transaction) Set(t tables.Table, key []tables.Value, row tables.Row) error {
	q := []byte("UPDATE " + name(t.Name) + " SET ")
	for i, c := range t.Columns {
		if i > 0 {
			q = append(q, ", "...)
		}
		q = literal(append(q, name(c.Name)+" = "...), row.Values[i])
	}
	return x.change(t, append(q, keyed(t, key)...))
}

func (x *transaction) Remove(t tables.Table, keys [][]tables.Value) error {
	for _, key := range keys {
		if err := x.change(t, append([]byte("DELETE FROM "+name(t.Name)), keyed(t, key)...)); err != nil {
			return err
		}
	}
	return nil
}

func (x *transaction) change(t tables.Table, q []byte) error {
	err := x.run(string(q), nil)
	switch {
	case err == nil:
		return nil
	case strings.Contains(err.Error(), "UNIQUE constraint failed"): // so says SQLite of each key that is taken
		return fmt.Errorf("table %s: %w: %w", t.Name, tables.ErrTaken, err)
	}
	return fmt.Errorf("table %s: %w", t.Name, err)
}

func (x *transaction) Exec(statement string) error { return x.run(statement, nil) }
