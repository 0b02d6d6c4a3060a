package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"alibi/internal/tables"
)

// Rows are read page by page: a page is fetched whole by one short statement,
// whose locks are given back before anybody works on the rows.

const (
	firstPage = 256
	largePage = 8192
	pageBytes = 4 << 20 // more than this makes the next page smaller
	pageTime  = 250 * time.Millisecond
)

// page is some rows of a result.
type page struct {
	rows  [][]tables.Value
	bytes int
}

// chunk is how much room for values is made at once.
const chunk = 256 << 10

// keep copies the values of a row, which are valid for a moment only.
func (p *page) keep(room *[]byte, v []tables.Value) {
	row := make([]tables.Value, len(v))
	for i, x := range v {
		if n := len(x.Bytes); n > 0 {
			if cap(*room)-len(*room) < n {
				*room = make([]byte, 0, max(chunk, n))
			}
			at := len(*room)
			*room = append(*room, x.Bytes...)
			x.Bytes = (*room)[at : at+n : at+n]
			p.bytes += n
		}
		row[i] = x
	}
	p.rows = append(p.rows, row)
	p.bytes += 32 * len(v)
}

// paged is a query that is run page by page over a range of a table.
type paged struct {
	t     tables.Table
	cols  []column // of the result
	keyAt []int    // where the result has the table's key
	head  string   // SELECT ... FROM ...
}

// pages runs it, and gives each row in order.
func (s *snapshot) pages(ctx context.Context, p paged, r tables.Range, give func([]tables.Value) error) error {
	keys := keyColumns(p.t, s.columns[p.t.Name])
	return s.lend(ctx, func(c conn) error {
		enough := make(chan struct{})
		fetched := make(chan page) // the next page is fetched while one is worked on
		failed := make(chan error, 1)
		go func() {
			defer close(fetched)
			failed <- s.fetch(ctx, c, p, keys, r, fetched, enough)
		}()
		var err error
		stopped := false
		for pg := range fetched {
			for _, v := range pg.rows {
				if err == nil {
					err = give(v)
				}
			}
			if err != nil && !stopped {
				stopped = true
				close(enough)
			}
		}
		if ferr := <-failed; err == nil {
			err = ferr
		}
		return err
	})
}

// fetch sends the pages of a range.
func (s *snapshot) fetch(
	ctx context.Context,
	c conn,
	p paged,
	keys []column,
	r tables.Range,
	to chan<- page,
	enough <-chan struct{},
) error {
	after, offset, n := r.After, 0, firstPage
	for {
		q := p.head + where(keys, tables.Range{After: after, To: r.To})
		if len(p.t.Key) > 0 {
			q += " ORDER BY " + names(p.t.Key)
		}
		q += fmt.Sprintf(" LIMIT %d", n)
		if len(keys) == 0 { // in the order in which the server has them, or by a key that can't be compared
			q += fmt.Sprintf(" OFFSET %d", offset)
		}
		var pg page
		var took time.Duration
		err := s.statement(ctx, c, func() error {
			began := time.Now()
			defer func() { took = time.Since(began) }()
			pg = page{}
			room := []byte(nil)
			return each(ctx, c, q, p.cols, func(v []tables.Value) error {
				pg.keep(&room, v)
				return nil
			})
		})
		if err != nil {
			return err
		}
		got := len(pg.rows)
		if got > 0 && len(keys) > 0 {
			after = make([]tables.Value, len(p.keyAt))
			for i, k := range p.keyAt {
				after[i] = pg.rows[got-1][k]
			}
		}
		select {
		case to <- pg:
		case <-enough:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
		if got < n {
			return nil
		}
		offset += got
		n = nextPage(n, pg.bytes, took, s.atMost())
	}
}

// nextPage is how many rows the next page has.
func nextPage(n, bytes int, took, most time.Duration) int {
	switch {
	case bytes > pageBytes || took > most:
		return max(16, n/2)
	case bytes < pageBytes/2 && took < most/3:
		return min(largePage, n*2)
	}
	return n
}

// conn is a connection of a snapshot, with the server's number of it.
type conn struct {
	*sql.Conn
	id int64
}

// statement does something short on a connection of a snapshot, and gives back the locks
// on the tables that it read: back to the savepoint, they are free, and the
// snapshot is still the same.
func (s *snapshot) statement(ctx context.Context, c conn, do func() error) error {
	run := func() error {
		return s.guard.run(ctx, c.id, do, func() error {
			_, err := c.ExecContext(ctx, "ROLLBACK TO SAVEPOINT "+savepoint)
			return err
		})
	}
	g := s.guard.gentle
	if g == nil {
		return run()
	}
	return g.do(ctx, run)
}

const savepoint = "alibi"
