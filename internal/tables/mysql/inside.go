package mysql

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/tables"
)

// condition is a search as a condition over a table's columns.
func condition(t tables.Table, s tables.Search) string {
	if s.All {
		return "1"
	}
	shortest := 1 << 30
	var alternatives []string
	for _, f := range s.Fold {
		alternatives = append(alternatives, "(?i:"+regexp.QuoteMeta(f)+")")
		shortest = min(shortest, len(f))
	}
	for _, e := range s.Exact {
		alternatives = append(alternatives, regexp.QuoteMeta(e))
		shortest = min(shortest, len(e))
	}
	pattern := string(quote([]byte("_binary"), []byte(strings.Join(alternatives, "|"))))
	var any []string
	for _, c := range t.Columns {
		col := newColumn(c)
		if values := s.Values[c.Name]; len(values) > 0 {
			list := make([]string, len(values))
			for i, v := range values {
				list[i] = string(quote(nil, []byte(v)))
			}
			any = append(any, "BINARY "+name(c.Name)+" IN ("+strings.Join(list, ", ")+")")
		}
		if len(alternatives) == 0 || !col.holds(shortest) {
			continue
		}
		any = append(any, "IFNULL(CAST("+col.expr()+" AS BINARY) REGEXP "+pattern+", 0)")
	}
	if len(any) == 0 {
		return "0"
	}
	return strings.Join(any, " OR ")
}

var width = regexp.MustCompile(`\((\d+)\)`)

// holds tells whether a text of n bytes can stand in the column.
func (c column) holds(n int) bool {
	base, _, _ := strings.Cut(strings.ToLower(c.Type), "(")
	switch {
	case c.class == wide, c.class == json:
		return true
	case c.class == long: // geometry holds no text
		return strings.HasSuffix(base, "text") || strings.HasSuffix(base, "blob")
	case base == "enum", base == "set", base == "bit":
		return false
	case c.class == raw:
		if m := width.FindStringSubmatch(c.Type); m != nil {
			w, _ := strconv.Atoi(m[1])
			return w >= n
		}
		return true
	}
	return false
}

// inner is a table that was copied inside the server and is not finished yet.
type inner struct {
	t    *Target
	tx   *sql.Tx
	tab  tables.Table
	cols []column
}

// Inside fills a table from one of the same name in another database of the
// same server, without its rows leaving it, with texts exchanged for others on
// the way, part by part, so that the other table is locked for moments only; and
// has finish set right in one transaction what is to be different still. Until
// that is done the table is not marked as loaded.
func (t *Target) Inside(
	ctx context.Context,
	table, from string,
	parts []tables.Range,
	exchange [][2]string,
	finish func(tables.Inner) error,
) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	in := &inner{t: t, tab: tab}
	var list, values []string
	for _, c := range tab.Columns {
		col := newColumn(c)
		in.cols = append(in.cols, col)
		list = append(list, c.Name)
		values = append(values, col.exchanged(exchange))
	}
	return t.within(ctx, tab, func(c *sql.Conn) error {
		g := newGuard(t.login)
		defer g.close()
		id, err := connection(ctx, c)
		if err != nil {
			return err
		}
		if err := execAll(ctx, c, []string{"SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED"}); err != nil {
			return err
		}
		if _, err := c.ExecContext(ctx, "SET @@check_constraint_checks = 0"); err != nil && number(err) != 1193 {
			return err
		}
		keys := keyColumns(tab, in.cols)
		for _, part := range parts {
			q := "INSERT INTO " + at(tab) + " (" + names(list) + ") SELECT " + strings.Join(values, ", ") + " FROM " +
				name(from) + "." + name(table) + where(keys, part)
			if len(tab.Key) > 0 {
				q += " ORDER BY " + names(tab.Key)
			}
			err := g.run(ctx, id, func() error {
				_, err := c.ExecContext(ctx, q)
				return err
				// a statement of its own gives everything back, and leaves nothing if it is ended
			}, func() error { return nil })
			if err != nil {
				return err
			}
		}
		return nil
	}, func(tx *sql.Tx) error {
		in.tx = tx
		return finish(in)
	})
}

// exchangeBytes is the size from which a value is not exchanged by the server:
// its REPLACE takes a time that grows with the square of what it finds.
const exchangeBytes = 16 << 10

// exchanges tells whether a text of n bytes is exchanged in the column.
func (c column) exchanges(n int) bool { return (c.class == raw || c.class == long) && c.holds(n) }

// exchanged is the column in a SELECT with texts exchanged, where it can hold
// them: as bytes, which is much faster than as text, and only where what all of
// them have in common is found.
func (c column) exchanged(exchange [][2]string) string {
	plain := name(c.Name)
	e := "CAST(" + plain + " AS BINARY)"
	var from []string
	for _, x := range exchange {
		if c.exchanges(len(x[0])) {
			e = "REPLACE(" + e + ", " + string(quote(nil, []byte(x[0]))) + ", " + string(quote(nil, []byte(x[1]))) + ")"
			from = append(from, x[0])
		}
	}
	if from == nil {
		return plain
	}
	var when []string
	if c.holds(exchangeBytes) {
		when = append(when, fmt.Sprintf("OCTET_LENGTH(%s) <= %d", plain, exchangeBytes))
	}
	if in := common(from); in != "" {
		when = append(when, "INSTR(CAST("+plain+" AS BINARY), "+string(quote([]byte("_binary"), []byte(in)))+")")
	}
	if when == nil {
		return e
	}
	return "IF(" + strings.Join(when, " AND ") + ", " + e + ", " + plain + ")"
}

// common is the end that all texts have in common.
func common(texts []string) string {
	first := texts[0]
	for n := 1; n <= len(first); n++ {
		if slices.ContainsFunc(texts, func(t string) bool { return !strings.HasSuffix(t, first[len(first)-n:]) }) {
			return first[len(first)-n+1:]
		}
	}
	return first
}

// Exchanged gives what Inside has the server do to a row.
func (t *Target) Exchanged(table string, exchange [][2]string) func(tables.Row) tables.Row {
	tab, _ := t.schema.Table(table)
	pairs := make([][][2][]byte, len(tab.Columns))
	for i, c := range tab.Columns {
		for _, x := range exchange {
			if newColumn(c).exchanges(len(x[0])) {
				pairs[i] = append(pairs[i], [2][]byte{[]byte(x[0]), []byte(x[1])})
			}
		}
	}
	return func(r tables.Row) tables.Row {
		out := tables.Row{Key: r.Key, Values: slices.Clone(r.Values)}
		for i := range out.Values {
			v := &out.Values[i]
			if len(v.Bytes) > exchangeBytes {
				continue
			}
			for _, x := range pairs[i] {
				if bytes.Contains(v.Bytes, x[0]) {
					v.Bytes = bytes.ReplaceAll(v.Bytes, x[0], x[1])
				}
			}
		}
		return out
	}
}

// Total counts the rows of a range as they are now, and adds up the first halves
// of their digests, modulo 2^64.
func (in *inner) Total(ctx context.Context, r tables.Range) (rows int64, sum uint64, err error) {
	return total(ctx, in.tx, in.tab, in.cols, r)
}

// Sums gives key and digest of each row of a range as it is now.
func (in *inner) Sums(ctx context.Context, r tables.Range, give func(key []tables.Value, d tables.Digest) error) error {
	var keys []column
	for _, k := range in.tab.Key {
		keys = append(keys, in.cols[in.tab.Column(k)])
	}
	q := "SELECT " + strings.Join(append(exprList(keys), rowSum(in.cols)), ", ") + " FROM " + at(in.tab) +
		where(keyColumns(in.tab, in.cols), r)
	n := len(keys)
	return each(ctx, in.tx, q, append(keys, column{class: raw}), func(v []tables.Value) error {
		d, err := decodeSum(v[n].Bytes)
		if err != nil {
			return fmt.Errorf("table %s: %w", in.tab.Name, err)
		}
		return give(v[:n], d)
	})
}

// Remove removes the rows with these keys.
func (in *inner) Remove(ctx context.Context, list [][]tables.Value) error {
	keys := keysOf(in.tab)
	for chunk := range slices.Chunk(list, 500) {
		if _, err := in.tx.ExecContext(ctx, "DELETE FROM "+at(in.tab)+" WHERE "+oneOf(keys, chunk)); err != nil {
			return err
		}
	}
	return nil
}

// total has the server add up what a range holds.
func total(
	ctx context.Context,
	c rowQueryer,
	t tables.Table,
	cols []column,
	r tables.Range,
) (rows int64, sum uint64, err error) {
	var text string
	q := "SELECT COUNT(*), " + added(cols) + " FROM " + at(t) + where(keyColumns(t, cols), r)
	if err := c.QueryRowContext(ctx, q).Scan(&rows, &text); err != nil {
		return 0, 0, err
	}
	sum, err = lowBits(text)
	return rows, sum, err
}

// added adds up the first halves of the digests of rows.
func added(cols []column) string {
	return "COALESCE(SUM(CAST(CONV(LEFT(" + rowSum(cols) + ", 16), 16, 10) AS UNSIGNED)), 0)"
}

type rowQueryer interface {
	QueryRowContext(ctx context.Context, q string, args ...any) *sql.Row
}

// lowBits reads a sum of any size modulo 2^64.
func lowBits(text string) (uint64, error) {
	n, ok := new(big.Int).SetString(text, 10)
	if !ok {
		return 0, fmt.Errorf("the server's sum %q is no number", text)
	}
	return n.And(n, new(big.Int).SetUint64(1<<64-1)).Uint64(), nil
}

// Replace puts rows in place of those with their keys.
func (in *inner) Replace(ctx context.Context, next func(put func(tables.Row) error) error) error {
	w := newWriter(ctx, in.tx, in.tab, "REPLACE", in.t.packet)
	return w.flush(next(w.put))
}
