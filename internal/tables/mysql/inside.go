package mysql

import (
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

// Inner is a table that was copied inside the server and is not finished yet.
type Inner struct {
	t    *Target
	tx   *sql.Tx
	tab  tables.Table
	cols []column
}

// Inside fills a table from one of the same name in another database of the
// same server, without its rows leaving it, with texts exchanged for others on
// the way; and has finish set right what is to be different still, all in one
// transaction.
func (t *Target) Inside(ctx context.Context, table, from string, exchange [][2]string, finish func(*Inner) error) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	in := &Inner{t: t, tab: tab}
	var list, values []string
	for _, c := range tab.Columns {
		col := newColumn(c)
		in.cols = append(in.cols, col)
		list = append(list, c.Name)
		values = append(values, col.exchanged(exchange))
	}
	return t.within(ctx, table, func(tx *sql.Tx) error {
		in.tx = tx
		q := "INSERT INTO " + name(table) + " (" + names(list) + ") SELECT " + strings.Join(values, ", ") + " FROM " + name(from) + "." + name(table)
		if len(tab.Key) > 0 {
			q += " ORDER BY " + names(tab.Key)
		}
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return err
		}
		return finish(in)
	})
}

// exchanged is the column in a SELECT with texts exchanged, where it can hold them.
func (c column) exchanged(exchange [][2]string) string {
	e := name(c.Name)
	if c.class != raw && c.class != long {
		return e
	}
	for _, x := range exchange {
		if c.holds(len(x[0])) {
			e = "REPLACE(" + e + ", " + string(quote(nil, []byte(x[0]))) + ", " + string(quote(nil, []byte(x[1]))) + ")"
		}
	}
	return e
}

// Sums gives key and digest of each row of a range as it is now.
func (in *Inner) Sums(ctx context.Context, r tables.Range, give func(key []tables.Value, d tables.Digest) error) error {
	var keys []column
	for _, k := range in.tab.Key {
		keys = append(keys, in.cols[in.tab.Column(k)])
	}
	q := "SELECT " + strings.Join(append(exprList(keys), rowSum(in.cols)), ", ") + " FROM " + name(in.tab.Name) + where(keyColumns(in.tab, in.cols), r)
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
func (in *Inner) Remove(ctx context.Context, list [][]tables.Value) error {
	keys := make([]column, len(in.tab.Key))
	for i, k := range in.tab.Key {
		keys[i] = in.cols[in.tab.Column(k)]
	}
	for chunk := range slices.Chunk(list, 500) {
		if _, err := in.tx.ExecContext(ctx, "DELETE FROM "+name(in.tab.Name)+" WHERE "+oneOf(keys, chunk)); err != nil {
			return err
		}
	}
	return nil
}

func totalQuery(t tables.Table, cols []column) string {
	return "SELECT COUNT(*), COALESCE(SUM(CAST(CONV(LEFT(" + rowSum(cols) + ", 16), 16, 10) AS UNSIGNED)), 0) FROM " + name(t.Name)
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
func (in *Inner) Replace(ctx context.Context, next func(put func(tables.Row) error) error) error {
	w := newWriter(ctx, in.tx, in.tab, "REPLACE", in.t.packet)
	if err := next(w.put); err != nil {
		return err
	}
	return w.flush()
}
