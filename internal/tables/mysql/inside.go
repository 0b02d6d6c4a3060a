package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"math/big"
	"regexp"
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
	case c.class == wide, c.class == json, c.class == long && base != "tinytext" && base != "tinyblob" && !strings.Contains(base, "p"): // not points and polygons
		return true
	case base == "enum", base == "set", base == "bit":
		return false
	case c.class == raw, c.class == long:
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
// same server, without its rows leaving it, and has finish set right what must
// differ, all in one transaction.
func (t *Target) Inside(ctx context.Context, table, from string, finish func(*Inner) error) error {
	tab, ok := t.schema.Table(table)
	if !ok {
		return fmt.Errorf("no table %s to load", table)
	}
	in := &Inner{t: t, tab: tab}
	var list []string
	for _, c := range tab.Columns {
		in.cols = append(in.cols, newColumn(c))
		list = append(list, c.Name)
	}
	return t.within(ctx, table, func(tx *sql.Tx) error {
		in.tx = tx
		q := "INSERT INTO " + name(table) + " (" + names(list) + ") SELECT " + names(list) + " FROM " + name(from) + "." + name(table)
		if len(tab.Key) > 0 {
			q += " ORDER BY " + names(tab.Key)
		}
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return err
		}
		return finish(in)
	})
}

// Total counts the rows and adds up their digests, as Summer's does.
func (in *Inner) Total(ctx context.Context) (rows int64, sum uint64, err error) {
	var text string
	if err := in.tx.QueryRowContext(ctx, totalQuery(in.tab, in.cols)).Scan(&rows, &text); err != nil {
		return 0, 0, err
	}
	sum, err = lowBits(text)
	return rows, sum, err
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

// Refill empties the table and fills it with rows from outside.
func (in *Inner) Refill(ctx context.Context, next func(put func(tables.Row) error) error) error {
	if _, err := in.tx.ExecContext(ctx, "DELETE FROM "+name(in.tab.Name)); err != nil {
		return err
	}
	return in.Replace(ctx, next)
}
