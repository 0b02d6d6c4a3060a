package tablestest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// EditEngine is what the test needs of an engine whose databases are changed.
type EditEngine struct {
	// Make makes a database from statements, and gives a function that opens it to be
	// changed, as another process would each time.
	Make   func(t *testing.T, statements ...string) (tables.Writable, func() tables.Edit)
	Schema []string // see Engine
}

// errBroken ends the reading of rows in the middle.
var errBroken = errors.New("the reading was broken off")

// change is one edit of a test: from what was there to a goal.
type change struct {
	t       *testing.T
	db      tables.Writable
	open    func() tables.Edit
	goal    tables.Snapshot
	was     []string        // the state before
	hung    []tables.Object // and what hung on its tables
	settled bool
	sums    bool                  // what is wanted is told of by digests too
	fail    func(at string) error // asked before each step, and with "row" before each row that is given
}

// RunEdit tests that a database is brought to a wanted state, and back, wherever that is
// broken off.
func RunEdit(t *testing.T, e EditEngine) {
	var points []string // each moment of a whole edit, in order
	t.Run("brings it about", func(t *testing.T) {
		c := begin(t, e)
		c.fail = func(at string) error {
			points = append(points, at)
			return nil
		}
		require.NoError(t, c.apply())
		c.settle()
		want := state(t, c.goal)
		assert.Equal(t, want, c.state())
		c.takeBack()
		assert.Equal(t, want, c.state(), "what is settled can't be taken back")
	})
	t.Run("brings it about by digests", func(t *testing.T) {
		c := begin(t, e)
		c.sums = true
		require.NoError(t, c.apply())
		c.settle()
		assert.Equal(t, state(t, c.goal), c.state())
	})
	t.Run("takes it back", func(t *testing.T) {
		c := begin(t, e)
		require.NoError(t, c.apply())
		assert.NotEqual(t, c.was, c.state())
		c.takeBack()
		assert.Equal(t, c.was, c.state())
	})
	require.Greater(t, len(points), 40)
	for n := 0; n < len(points); n += 1 + len(points)/15 {
		t.Run(fmt.Sprintf("broken off at moment %d, %s", n, points[n]), func(t *testing.T) {
			c := begin(t, e)
			at := 0
			c.fail = func(string) error {
				if at++; at > n {
					return errBroken
				}
				return nil
			}
			require.ErrorIs(t, c.apply(), errBroken)
			c.takeBack()
			assert.Equal(t, c.was, c.state())
			c.fail = nil
			require.NoError(t, c.apply())
			c.settle()
			assert.Equal(t, state(t, c.goal), c.state())
		})
	}
}

// begin makes a database, and another one that is the goal.
func begin(t *testing.T, e EditEngine) *change {
	t.Helper()
	database := func(more ...string) (tables.Writable, func() tables.Edit) {
		all := slices.Clone(e.Schema)
		posts := "INSERT INTO posts (id, title, n) VALUES (1, 'post 1', 7)"
		for i := 2; i <= 40; i++ {
			posts += fmt.Sprintf(", (%d, 'post %d', 7)", i, i)
		}
		all = append(all, posts, "INSERT INTO pairs (a, b, v) VALUES (1, 'x', 'goes')",
			"INSERT INTO loose (v) VALUES ('one'), ('one'), ('two')")
		return e.Make(t, append(all, more...)...)
	}
	goal, _ := database("UPDATE posts SET title = 'changed' WHERE id = 3", "DELETE FROM posts WHERE id = 5",
		"INSERT INTO posts (id, title) VALUES (100, 'new')", "DELETE FROM loose",
		"INSERT INTO loose (v) VALUES ('other'), ('one')", "DROP TABLE pairs",
		"CREATE TABLE extra (id INTEGER PRIMARY KEY, v VARCHAR(20))", "INSERT INTO extra VALUES (1, 'more')",
		"DROP VIEW titles", "CREATE VIEW titles AS SELECT n FROM posts")
	c := &change{t: t}
	c.db, c.open = database()
	snap, err := c.db.Snapshot(context.Background())
	require.NoError(t, err)
	c.was, c.hung = state(t, snap), snap.Schema().After
	snap.Close()
	c.goal, err = goal.Snapshot(context.Background())
	require.NoError(t, err)
	t.Cleanup(func() { c.goal.Close() })
	return c
}

func (c *change) moment(at string) error {
	if c.fail == nil {
		return nil
	}
	return c.fail(at)
}

// wanted is the goal as an edit takes it.
func (c *change) wanted(now tables.Schema) tables.Wanted {
	w := tables.Wanted{Digest: c.goal.Digest, After: c.goal.Schema().After, Hangs: true, Lower: true}
	for _, t := range c.goal.Schema().Tables {
		want := tables.WantedTable{Name: t.Name, Table: &t, Fixed: true}
		row := func(give func(tables.Row) error) func(tables.Row) error {
			return func(r tables.Row) error { return cmp.Or(c.moment("a row of "+t.Name), give(r)) }
		}
		want.Rows = func(ctx context.Context, give func(tables.Row) error) error {
			return c.goal.Read(ctx, t.Name, tables.Range{}, row(give))
		}
		if g, can := c.goal.(tables.Grouper); can && c.sums && len(t.Key) > 0 {
			c.summed(&want, g, row)
		}
		w.Tables = append(w.Tables, want)
	}
	for _, t := range now.Tables {
		if _, stays := c.goal.Schema().Table(t.Name); !stays {
			w.Tables = append(w.Tables, tables.WantedTable{Name: t.Name})
		}
	}
	return w
}

// summed has a table told of by its digests.
func (c *change) summed(w *tables.WantedTable, g tables.Grouper, row func(func(tables.Row) error,
) func(tables.Row) error) {
	w.Sums = func(ctx context.Context, r tables.Range, give func(key []tables.Value, d tables.Digest) error) error {
		return g.Sums(ctx, w.Name, r, tables.Search{}, func(key []tables.Value, d tables.Digest, _ bool) error {
			return cmp.Or(c.moment("a digest of "+w.Name), give(key, d))
		})
	}
	w.Pick = func(ctx context.Context, keys [][]tables.Value, give func(tables.Row) error) error {
		return g.Pick(ctx, w.Name, keys, row(give))
	}
	w.Groups = func(ctx context.Context, per int64, give func(tables.Group) error) (bool, error) {
		return g.Groups(ctx, w.Name, per, tables.Search{Exact: []string{"post 7"}}, func(g tables.Group) error {
			return cmp.Or(c.moment("a group of "+w.Name), give(g))
		})
	}
}

func (c *change) edit(do func(tables.Edit) error) error {
	x := c.open()
	defer x.Close()
	return do(x)
}

// apply brings the goal about, as an operation does.
func (c *change) apply() error {
	ctx := context.Background()
	return c.edit(func(x tables.Edit) error {
		now, err := c.db.Snapshot(ctx)
		if err != nil {
			return err
		}
		defer func() { now.Close() }()
		w := c.wanted(now.Schema())
		drop, hang := w.Hanging(now.Schema(), true)
		stage := func() error {
			made, err := x.Stage(ctx, now, w, func(int64, int64) {})
			if err == nil {
				c.addedUp(made.Sums)
			}
			return err
		}
		again := func() (err error) {
			now.Close()
			if err = x.Objects(ctx, drop, nil); err == nil {
				now, err = c.db.Snapshot(ctx)
			}
			return err
		}
		exchange := func() error { return errors.Join(now.Close(), x.Exchange(ctx)) }
		for _, step := range []struct {
			name string
			do   func() error
		}{{"drop", again}, {"stage", stage}, {"exchange", exchange},
			{"hang", func() error { return x.Objects(ctx, nil, hang) }}} {
			if err := c.moment(step.name); err != nil {
				return err
			}
			if err := step.do(); err != nil {
				return err
			}
		}
		return c.moment("end")
	})
}

// addedUp sees that what the rows add up to, where an engine tells, is what they add up to in the goal.
func (c *change) addedUp(sums map[string]tables.Sum) {
	c.t.Helper()
	for name, s := range sums {
		var want tables.Sum
		require.NoError(c.t, c.goal.Read(context.Background(), name, tables.Range{}, func(r tables.Row) error {
			d, _ := c.goal.Digest(name, r, nil)
			want.Rows, want.Sum = want.Rows+1, want.Sum+d[0]
			return nil
		}))
		assert.Equal(c.t, want, s, "table %s", name)
	}
}

func (c *change) settle() {
	c.t.Helper()
	require.NoError(c.t, c.edit(func(x tables.Edit) error { return x.Commit(context.Background()) }))
	c.settled = true
}

// takeBack takes the edit back, as another process.
func (c *change) takeBack() {
	c.t.Helper()
	ctx := context.Background()
	require.NoError(c.t, c.edit(func(x tables.Edit) error {
		if !x.Separate() || c.settled {
			return x.Rollback(ctx)
		}
		now, err := c.db.Snapshot(ctx)
		if err != nil {
			return err
		}
		drop, hang := tables.Wanted{After: c.hung, Hangs: true}.Hanging(now.Schema(), true)
		if err := now.Close(); err != nil {
			return err
		}
		return errors.Join(x.Objects(ctx, drop, nil), x.Rollback(ctx), x.Objects(ctx, nil, hang))
	}))
}

func (c *change) state() []string {
	c.t.Helper()
	s, err := c.db.Snapshot(context.Background())
	require.NoError(c.t, err)
	defer s.Close()
	return state(c.t, s)
}

// state is all that is in a database, in lines.
func state(t *testing.T, s tables.Snapshot) (out []string) {
	t.Helper()
	for _, tab := range s.Schema().Tables {
		rows := all(t, s, tab.Name)
		if len(tab.Key) == 0 { // in no order; by its values
			for i, r := range rows {
				_, rows[i], _ = strings.Cut(r, ":")
			}
		}
		slices.Sort(rows)
		for _, r := range rows {
			out = append(out, tab.Name+" "+r)
		}
		out = append(out, "table "+tab.Name)
	}
	for _, o := range s.Schema().After {
		out = append(out, o.Kind+" "+o.Name+" "+o.SQL)
	}
	slices.Sort(out)
	return out
}
