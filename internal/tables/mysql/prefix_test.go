package mysql_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

func TestTablesUnderAnotherPrefix(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(
		t,
		"shared",
		"CREATE TABLE wp_posts (id INT AUTO_INCREMENT PRIMARY KEY, body TEXT) ENGINE=InnoDB",
		"INSERT INTO wp_posts (body) VALUES ('one'), ('two'), ('https://a.example/')",
		"CREATE TABLE wp_child (id INT PRIMARY KEY, post INT, KEY post (post), CONSTRAINT child_post FOREIGN KEY "+
			"(post) REFERENCES wp_posts (id) ON DELETE CASCADE)",
		"INSERT INTO wp_child VALUES (1, 2)",
		"CREATE VIEW wp_seen AS SELECT id FROM wp_posts",
		"CREATE TABLE other (id INT PRIMARY KEY)",
		"INSERT INTO other VALUES (7)",
	)
	narrow, err := db.Under("wp_", "wp_").Snapshot(ctx)
	require.NoError(t, err)
	defer narrow.Close()
	var names []string
	for _, tab := range narrow.Schema().Tables {
		names = append(names, tab.Name)
		assert.NotContains(t, tab.Create, "FOREIGN KEY")
	}
	assert.Equal(t, []string{"wp_child", "wp_posts"}, names)
	assert.Empty(t, narrow.Schema().After)
	assert.Contains(t, narrow.Schema().Problems, "foreign keys of wp_child are not copied: the copy has no "+
		"database of its own")
	assert.Contains(t, narrow.Schema().Problems, "the view wp_seen is not copied: the copy has no database of its own")

	root := root()
	const prefix = "alibi_near_12ab_"
	load := func(finish bool) {
		to := mysql.NewTarget(root, root, "shared").Under("wp_", prefix)
		loaded, err := to.Begin(ctx, narrow.Schema())
		require.NoError(t, err)
		for _, tab := range narrow.Schema().Tables {
			if tab.Name == "wp_child" && len(loaded) > 0 {
				assert.Equal(t, []string{"wp_child"}, loaded, "what was loaded before the break is kept")
				continue
			}
			if tab.Name == "wp_posts" { // inside the server, with one row set right
				require.NoError(
					t,
					to.Inside(
						ctx,
						tab.Name,
						"shared",
						[]tables.Range{{}},
						[][2]string{{"https://a.example", "http://b.localhost"}},
						func(in tables.Inner) error {
							rows, sum, err := in.Total(ctx, tables.Range{})
							assert.EqualValues(t, 3, rows)
							_, whole, terr := narrow.(tables.Summer).Total(ctx, tab.Name, tables.Range{})
							assert.NoError(t, terr)
							assert.NotEqual(t, whole, sum, "an address was exchanged")
							return err
						},
					),
				)
				continue
			}
			require.NoError(t, to.Load(ctx, tab.Name,
				func(put func(tables.Row) error) error { return narrow.Read(ctx, tab.Name, tables.Range{}, put) }))
			if !finish {
				require.NoError(t, to.Close())
				return
			}
		}
		require.NoError(t, to.Finish(ctx))
		require.NoError(t, to.Close())
	}
	load(false)
	load(true)

	copied, err := db.Under("wp_", prefix).Snapshot(ctx)
	require.NoError(t, err)
	require.Len(t, copied.Schema().Tables, 2)
	for i, tab := range copied.Schema().Tables {
		assert.Equal(t, names[i], tab.Name, "by the origin's names")
		assert.Equal(t, narrow.Schema().Tables[i].Create, tab.Create)
	}
	_, before := lines(t, narrow, "wp_child", tables.Range{})
	_, after := lines(t, copied, "wp_child", tables.Range{})
	assert.Equal(t, before, after)
	got, _ := lines(t, copied, "wp_posts", tables.Range{})
	assert.Contains(t, got[2], "http://b.localhost/")
	share, err := copied.(tables.Summer).Share(ctx, "wp_posts", tables.Search{Fold: []string{"b.localhost"}})
	require.NoError(t, err)
	assert.InDelta(t, 1.0/3, share, 0.01)
	parts, err := copied.Ranges(ctx, "wp_posts", 2)
	require.NoError(t, err)
	assert.Len(t, parts, 2)

	all, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer all.Close()
	for _, tab := range all.Schema().Tables {
		assert.NotContains(t, tab.Name, "alibi_", "who looks at the whole does not see it")
	}
	for _, wrong := range []string{"", "wp_", "alibi_", "alibi"} {
		assert.Error(t, root.DropUnder(ctx, "shared", wrong))
	}
	require.NoError(t, copied.Close()) // whoever reads a table keeps it
	require.NoError(t, root.DropUnder(ctx, "shared", prefix))
	assert.ElementsMatch(t, []string{"wp_posts", "wp_child", "wp_seen", "other"}, allTables(t, "shared"))
}
