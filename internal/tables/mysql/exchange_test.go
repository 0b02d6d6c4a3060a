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

func TestTablesChangePlacesAtOneMoment(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(
		t,
		"exchanged",
		"CREATE TABLE boats (id INT PRIMARY KEY, name VARCHAR(20))",
		"CREATE TABLE trips (id INT PRIMARY KEY, boat INT, KEY (boat), CONSTRAINT of_boat FOREIGN KEY (boat) "+
			"REFERENCES boats (id))",
		"CREATE TABLE gone (n INT)",
		"INSERT INTO boats VALUES (1, 'Auk'), (2, 'Tern')",
		"INSERT INTO trips VALUES (1, 2)",
		"INSERT INTO gone VALUES (7)",
	)
	before := state(t, db)
	snap, err := db.Snapshot(ctx)
	require.NoError(t, err)
	boats, _ := snap.Schema().Table("boats")
	trips, _ := snap.Schema().Table("trips")
	require.NoError(t, snap.Close())
	assert.True(t, mysql.Tied(trips, func(n string) bool { return n == "boats" }))
	assert.False(t, mysql.Tied(boats, func(string) bool { return true }))
	extra := tables.Table{
		Name:    "extra",
		Columns: boats.Columns,
		Key:     boats.Key,
		Create:  "CREATE TABLE `extra` (`id` int(11) NOT NULL, `name` varchar(20), PRIMARY KEY (`id`)) ENGINE=InnoDB",
	}
	row := func(id int64, name string) tables.Row {
		return tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: id}, {Kind: tables.Text, Bytes: []byte(name)}}}
	}
	rows := func(list ...tables.Row) func(func(tables.Row) error) error {
		return func(put func(tables.Row) error) error {
			for _, r := range list {
				if err := put(r); err != nil {
					return err
				}
			}
			return nil
		}
	}
	number := func(n int64) tables.Value { return tables.Value{Kind: tables.Int, Int: n} }
	list := []mysql.Instead{
		{
			Name:  "boats",
			Table: &boats,
			Rows:  rows(row(5, "Gannet")),
		}, {Name: "trips", Table: &trips, Rows: rows(tables.Row{Values: []tables.Value{number(1), number(5)}})},
		{Name: "gone"}, {Name: "extra", Table: &extra, Rows: rows(row(1, "new"))},
	}
	l := root()
	names := func() []string { return allTables(t, "exchanged") }

	broken := errors.New("killed here")
	require.ErrorIs(t, l.Fill(ctx, "exchanged", append(list,
		mysql.Instead{Name: "boats", Table: &boats, Rows: func(func(tables.Row) error) error { return broken }})),
		broken)
	assert.Equal(t, before, state(t, db), "nothing of it is seen")
	require.NoError(t, l.Rollback(ctx, "exchanged"))
	assert.ElementsMatch(t, []string{"boats", "trips", "gone"}, names())

	require.NoError(t, l.Exchange(ctx, "exchanged"), "without anything filled it does nothing")
	require.NoError(t, l.Fill(ctx, "exchanged", list))
	assert.Equal(t, before, state(t, db))
	require.NoError(t, l.Exchange(ctx, "exchanged"))
	after := state(t, db)
	assert.NotEqual(t, before, after)
	require.NoError(t, l.Rollback(ctx, "exchanged"))
	assert.Equal(t, before, state(t, db), "the foreign key is the old one again")
	assert.ElementsMatch(t, []string{"boats", "trips", "gone"}, names())
	tied := func() string {
		snap, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer snap.Close()
		trips, _ := snap.Schema().Table("trips")
		return trips.Create
	}
	assert.Contains(t, tied(), "REFERENCES `boats`")

	require.NoError(t, l.Fill(ctx, "exchanged", list))
	require.NoError(t, l.Exchange(ctx, "exchanged"))
	require.NoError(t, l.Commit(ctx, "exchanged"))
	require.NoError(t, l.Commit(ctx, "exchanged"), "twice does no harm")
	assert.ElementsMatch(t, []string{"boats", "trips", "extra"}, names())
	assert.Contains(t, tied(), "CONSTRAINT `of_boat` FOREIGN KEY (`boat`) REFERENCES `boats`",
		"the new ones are tied too")
	require.NoError(t, l.Rollback(ctx, "exchanged"), "what is settled stays")
	assert.ElementsMatch(t, []string{"boats", "trips", "extra"}, names())
}
