package mysql_test

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

// state digests all rows of a database.
func state(t *testing.T, db *mysql.Database) string {
	t.Helper()
	s, err := db.Stamp(context.Background())
	require.NoError(t, err)
	return s
}

// allTables gives the names of a database's tables, also those that no snapshot shows.
func allTables(t *testing.T, name string) []string {
	t.Helper()
	db := newDatabase(t, name+"_names", "DROP TABLE IF EXISTS names", "CREATE TABLE names (n VARCHAR(200) PRIMARY KEY)",
		"INSERT INTO names SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = '"+name+"'")
	s, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer s.Close()
	var out []string
	require.NoError(t, s.Read(context.Background(), "names", tables.Range{}, func(r tables.Row) error {
		out = append(out, r.Values[0].String())
		return nil
	}))
	return out
}

func TestAPatchIsWholeOrNotAtAll(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(
		t,
		"patched",
		"CREATE TABLE posts (id INT, part INT, slug VARCHAR(20) UNIQUE, body TEXT, size INT GENERATED ALWAYS AS "+
			"(LENGTH(body)) VIRTUAL, PRIMARY KEY (id, part))",
		"CREATE TABLE loose (v VARCHAR(10))",
		"CREATE TABLE still (id INT PRIMARY KEY)",
		"INSERT INTO posts (id, part, slug, body) VALUES (1, 1, 'a', 'one'), (2, 1, 'b', 'two'), (3, 1, 'c', 'three')",
		"INSERT INTO loose VALUES ('x'), ('x')",
		"INSERT INTO still VALUES (1)",
	)
	before := state(t, db)
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	posts, _ := snap.Schema().Table("posts")
	loose, _ := snap.Schema().Table("loose")
	require.NoError(t, snap.Close())
	number := func(n int64) tables.Value { return tables.Value{Kind: tables.Int, Int: n} }
	word := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	row := func(id int64, slug, body string) tables.Row {
		return tables.Row{Values: []tables.Value{number(id), number(1), word(slug), word(body)}}
	}
	change := func(end error) error {
		return root().Patch(ctx, "patched", []tables.Table{posts, loose}, func(p tables.Patch) error {
			touched := [][]tables.Value{{number(1), number(1)}, {number(2), number(1)}, {number(9), number(1)}}
			if err := p.Rows(posts, touched, func(put func(tables.Row) error) error {
				// Two rows change places in a unique index, and one comes.
				return errors.Join(put(row(1, "b", "one")), put(row(2, "a", "it's two")), put(row(9, "z", "nine")))
			}); err != nil {
				return err
			}
			if err := p.Whole(loose, func(put func(tables.Row) error) error {
				return put(tables.Row{Values: []tables.Value{word("y")}})
			}); err != nil {
				return err
			}
			return end
		})
	}
	take := func() { require.NoError(t, root().Rollback(ctx, "patched")) }

	broken := errors.New("killed here")
	require.ErrorIs(t, change(broken), broken)
	assert.Equal(t, before, state(t, db), "nothing of a patch that was broken off is there")
	take()
	assert.ElementsMatch(t, []string{"posts", "loose", "still"}, allTables(t, "patched"))

	require.NoError(t, change(nil))
	after := state(t, db)
	assert.NotEqual(t, before, after)
	require.Error(t, change(nil), "one that is not settled is not written over")
	take()
	assert.Equal(t, before, state(t, db))
	take()
	assert.Equal(t, before, state(t, db), "once is enough")

	require.NoError(t, change(nil))
	require.NoError(t, root().Commit(ctx, "patched"))
	take()
	assert.Equal(t, after, state(t, db), "what is settled stays")
	assert.ElementsMatch(t, []string{"posts", "loose", "still"}, allTables(t, "patched"))
	assert.ErrorIs(t, root().Rollback(ctx, "no_such"), tables.ErrRefused)
}

func TestWhatCanBePatched(t *testing.T) {
	ctx := context.Background()
	schema := func(name string, statements ...string) tables.Schema {
		s, err := newDatabase(t, name, statements...).Snapshot(ctx)
		require.NoError(t, err)
		defer s.Close()
		return s.Schema()
	}
	table := "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, v TEXT)"
	a := schema("shape_a", table, "INSERT INTO t (v) VALUES ('x'), ('y')", "CREATE VIEW w AS SELECT id FROM t")
	assert.True(t, mysql.Patchable(a, schema("shape_b", table, "CREATE VIEW w AS SELECT id FROM t")),
		"how far the numbers went is no difference")
	assert.False(t, mysql.Patchable(a, schema("shape_c", table)), "a view is missing")
	assert.False(t, mysql.Patchable(a, schema("shape_d",
		"CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, v LONGTEXT)", "CREATE VIEW w AS SELECT id FROM t")),
		"another column")
	assert.False(t, mysql.Patchable(a, schema("shape_e", table, "CREATE VIEW w AS SELECT id FROM t",
		"CREATE TABLE more (id INT PRIMARY KEY)")), "a table more")
	slow := schema("shape_f", "CREATE TABLE t (id INT PRIMARY KEY) ENGINE=MyISAM")
	assert.False(t, mysql.Patchable(slow, slow), "an engine that takes nothing back")
	fired := schema("shape_g", table, "CREATE TRIGGER g BEFORE INSERT ON t FOR EACH ROW SET new.v = 'fired'")
	assert.False(t, mysql.Patchable(fired, fired), "rows would set something off")
	assert.False(t, mysql.Patchable(tables.Schema{Engine: "sqlite"}, tables.Schema{Engine: "sqlite"}))
}
