package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/site"
	"alibi/internal/tables"
)

// Sums has the server digest the rows and search them; they stay where they are.
func (s *snapshot) Sums(
	ctx context.Context,
	table string,
	r tables.Range,
	search tables.Search,
	give func(key []tables.Value, d tables.Digest, found bool) error,
) error {
	t, cols, err := s.table(table)
	if err != nil {
		return err
	}
	var keys []column
	for _, k := range t.Key {
		keys = append(keys, cols[t.Column(k)])
	}
	suspect := condition(t, search)
	extra := []column{{class: raw}, {class: integer}}
	p := paged{
		t:    t,
		cols: append(keys, extra...),
		head: "SELECT " + strings.Join(append(exprList(keys), rowSum(cols), "("+suspect+")"), ", ") + " FROM " + at(t),
	}
	n := len(keys)
	for i := range n {
		p.keyAt = append(p.keyAt, i)
	}
	return s.pages(ctx, p, r, func(v []tables.Value) error {
		d, err := decodeSum(v[n].Bytes)
		if err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
		return give(v[:n], d, v[n+1].Int != 0)
	})
}

func exprList(cols []column) []string {
	out := make([]string, len(cols))
	for i, c := range cols {
		out[i] = c.expr()
	}
	return out
}

// Total has the server count the rows of a range and add up the first halves
// of their digests, modulo 2^64.
func (s *snapshot) Total(ctx context.Context, table string, r tables.Range) (rows int64, sum uint64, err error) {
	t, cols, err := s.table(table)
	if err != nil {
		return 0, 0, err
	}
	keys := keyColumns(t, cols)
	err = s.lend(ctx, func(c conn) error {
		for n := s.firstSum(); ; {
			part := tables.Range{After: r.After, To: r.To}
			last := len(keys) == 0
			if !last {
				bound, err := s.bound(ctx, c, t, keys, r, n)
				if err != nil {
					return err
				}
				if last = bound == nil; !last {
					part.To = bound
				}
			}
			var took time.Duration
			var partRows int64
			var partSum uint64
			err := s.statement(ctx, c, func() (err error) {
				began := time.Now()
				defer func() { took = time.Since(began) }()
				partRows, partSum, err = total(ctx, c, t, cols, part)
				return err
			})
			if err != nil {
				return err
			}
			rows, sum, r.After = rows+partRows, sum+partSum, part.To
			if last {
				return nil
			}
			n = nextSum(n, took, s.atMost())
		}
	})
	return rows, sum, err
}

// Groups has the server add up a table in groups, as Total does the whole.
func (s *snapshot) Groups(
	ctx context.Context,
	table string,
	per int64,
	search tables.Search,
	give func(tables.Group) error,
) (bool, error) {
	t, cols, err := s.table(table)
	keys := keyColumns(t, cols)
	if err != nil || len(keys) != 1 || keys[0].class != integer {
		return false, err
	}
	out := map[int64]tables.Group{}
	can := true
	err = s.lend(ctx, func(c conn) error {
		r, n := tables.Range{}, s.firstSum()
		for can {
			if r.To, err = s.bound(ctx, c, t, keys, tables.Range{After: r.After}, n); err != nil {
				return err
			}
			var took time.Duration
			err := s.statement(ctx, c, func() (err error) {
				began := time.Now()
				defer func() { took = time.Since(began) }()
				can, err = groups(ctx, c, t, cols, r, per, condition(t, search), out)
				return err
			})
			if err != nil || r.To == nil {
				return err
			}
			r.After = r.To
			n = nextSum(n, took, s.atMost())
		}
		return nil
	})
	for _, g := range out {
		if err == nil && can {
			err = give(g)
		}
	}
	return can, err
}

// groups adds up a range in groups; false where a key is below 0 or too large.
func groups(ctx context.Context, c queryer, t tables.Table, cols []column, r tables.Range, per int64, suspect string,
	out map[int64]tables.Group) (bool, error) {
	q := "SELECT " + name(t.Key[0]) + " DIV " + strconv.FormatInt(per, 10) + " AS g, COUNT(*), " + added(cols) +
		", SUM(" + suspect + "), MIN(" + name(t.Key[0]) + ") FROM " + at(t) + where(keyColumns(t, cols), r) + " GROUP BY g"
	rows, err := c.QueryContext(ctx, q)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	part := map[int64]tables.Group{} // a statement that is tried again begins anew
	for rows.Next() {
		var at, least, text string
		var g tables.Group
		if err := rows.Scan(&at, &g.Sum.Rows, &text, &g.Found, &least); err != nil {
			return false, err
		}
		if g.At, err = strconv.ParseInt(at, 10, 64); err != nil || strings.HasPrefix(least, "-") {
			return false, nil //nolint:nilerr // a key that is no number of ours
		}
		if g.Sum.Sum, err = lowBits(text); err != nil {
			return false, err
		}
		part[g.At] = g
	}
	if err := rows.Err(); err != nil {
		return false, err
	}
	for at, g := range part {
		was := out[at]
		out[at] = tables.Group{At: at, Found: was.Found + g.Found,
			Sum: tables.Sum{Rows: was.Sum.Rows + g.Sum.Rows, Sum: was.Sum.Sum + g.Sum.Sum}}
	}
	return true, nil
}

// firstSum is how many rows the server adds up by the first statement.
func (s *snapshot) firstSum() int {
	return int(10_000 * s.atMost() / pageTime)
}

// nextSum is how many it adds up by the next one.
func nextSum(n int, took, most time.Duration) int {
	switch {
	case took > most:
		return max(100, n/2)
	case took < most/3:
		return min(200_000, n*2)
	}
	return n
}

// sampled is about how many rows tell what share a search may find.
const sampled = 600

// share is a search of a table.
type share struct{ table, condition string }

// Share looks at a few rows from several places of the table, once for each search.
func (s *snapshot) Share(ctx context.Context, table string, search tables.Search) (float64, error) {
	t, cols, err := s.table(table)
	if err != nil {
		return 0, err
	}
	of := share{table, condition(t, search)}
	s.mu.Lock()
	known, ok := s.shares[of]
	s.mu.Unlock()
	if ok {
		return known, nil
	}
	var v sql.NullFloat64
	err = s.short(ctx, func(c conn) error {
		from, err := s.places(ctx, c.Conn, t, cols)
		if err != nil {
			return err
		}
		return c.QueryRowContext(ctx, "SELECT AVG(x) FROM ("+sample(t, of.condition, from)+") AS sample").
			Scan(&v)
	})
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shares[of] = v.Float64
	return v.Float64, nil
}

// places gives keys that lie evenly between a table's first and last, where its
// key is one number.
func (s *snapshot) places(ctx context.Context, c *sql.Conn, t tables.Table, cols []column) ([]int64, error) {
	if t.Rows <= sampled || len(t.Key) != 1 || cols[t.Column(t.Key[0])].class != integer {
		return []int64{math.MinInt64}, nil
	}
	var lo, hi sql.NullString
	if err := c.QueryRowContext(ctx, "SELECT MIN("+name(t.Key[0])+"), MAX("+name(t.Key[0])+") FROM "+at(t)).Scan(&lo,
		&hi); err != nil {
		return nil, err
	}
	first, err1 := strconv.ParseInt(lo.String, 10, 64)
	last, err2 := strconv.ParseInt(hi.String, 10, 64)
	if err1 != nil || err2 != nil {
		return []int64{math.MinInt64}, nil
	}
	const n = 20
	var out []int64
	for i := range int64(n) {
		out = append(out, first+(last-first)/n*i)
	}
	return out, nil
}

// sample selects the condition of rows from each of the places on.
func sample(t tables.Table, condition string, from []int64) string {
	var parts []string
	for _, k := range from {
		where := ""
		if k != math.MinInt64 {
			where = fmt.Sprintf(" WHERE %s >= %d", name(t.Key[0]), k)
		}
		parts = append(parts, fmt.Sprintf("(SELECT (%s) AS x FROM %s%s LIMIT %d)", condition, at(t), where,
			sampled/len(from)))
	}
	return strings.Join(parts, " UNION ALL ")
}

// Pick streams the rows with the given keys, in any order.
func (s *snapshot) Pick(ctx context.Context, table string, list [][]tables.Value, give func(tables.Row) error) error {
	t, cols, err := s.table(table)
	if err != nil {
		return err
	}
	keys := keysOf(t)
	_, row := keyed(t)
	for chunk := range slices.Chunk(list, 100) {
		q := "SELECT " + exprs(cols) + " FROM " + at(t) + " WHERE " + oneOf(keys, chunk)
		var pg page
		err := s.short(ctx, func(c conn) error {
			pg = page{}
			room := []byte(nil)
			return each(ctx, c, q, cols, func(v []tables.Value) error {
				pg.keep(&room, v)
				return nil
			})
		})
		for _, v := range pg.rows {
			if err == nil {
				err = give(row(v))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// oneOf is the condition for rows whose key is in a list.
func oneOf(keys []column, list [][]tables.Value) string {
	var b strings.Builder
	if len(keys) == 1 {
		b.WriteString(name(keys[0].Name) + " IN (")
		for i, k := range list {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(keys[0].bound(k[0]))
		}
		return b.String() + ")"
	}
	for i, k := range list {
		if i > 0 {
			b.WriteString(" OR ")
		}
		for j, c := range keys {
			b.WriteString(site.Either(j == 0, "(", " AND ") + name(c.Name) + " = " + c.bound(k[j]))
		}
		b.WriteByte(')')
	}
	return b.String()
}
