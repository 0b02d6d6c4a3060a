package evidence_test

import (
	"context"
	"database/sql"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/host/local"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// base is a database with one table of people and one of texts.
func base(t *testing.T, statements ...string) tables.Snapshot {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x.sqlite")
	db, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	for _, s := range append([]string{"CREATE TABLE crew (id INTEGER PRIMARY KEY, full_name TEXT, email TEXT)",
		"CREATE TABLE texts (id INTEGER PRIMARY KEY, body TEXT)"}, statements...) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	kept, err := engines.Open(context.Background(), engines.Where{
		Host: local.New("slipway"), Database: site.Database{Engine: site.File, Path: path}, Temp: t.TempDir(),
	})
	require.NoError(t, err)
	snap, err := kept.Snapshot(context.Background())
	require.NoError(t, err)
	t.Cleanup(func() { snap.Close() })
	return snap
}

func TestPeopleWhoAreLeftAreFoundWhereverTheyAre(t *testing.T) {
	ctx := context.Background()
	s := scrub.New([]byte("a key"), scrub.Columns(nil))
	assert.Equal(t, "no people are named", evidence.Originals(s))
	require.NoError(
		t,
		s.From(
			ctx,
			base(
				t,
				"INSERT INTO crew VALUES (1, 'Mara Quillon', 'mara@islands.example'), (2, 'Odo Fenn', "+
					"'odo.fenn@islands.example')",
				"INSERT INTO texts VALUES (1, 'High water at nine')",
			),
		),
	)
	assert.Contains(t, evidence.Originals(s), "2 ")

	clean, err := evidence.Personal(ctx, s, base(t, "INSERT INTO crew VALUES (1, 'Iris Vale', 'iris@scrubbed.example')",
		"INSERT INTO texts VALUES (1, 'High water at nine')"), nil)
	require.NoError(t, err)
	assert.Equal(t, evidence.Holds, clean.Verdict, "%+v", clean)
	assert.Equal(t, "none found", clean.Copy)

	for name, text := range map[string]string{
		"prose":      "Ask Mara Quillon about it",
		"an address": "mailto:ODO.FENN@islands.example?subject=x",
		"serialized": `a:1:{s:2:"to";s:20:"mara@islands.example";}`,
		"json":       `{"who":{"mail":"mara@islands.example"}}`,
	} {
		c, err := evidence.Personal(ctx, s, base(t, "INSERT INTO texts VALUES (7, '"+text+"')"), nil)
		require.NoError(t, err)
		assert.Equal(t, evidence.Broken, c.Verdict, name)
		assert.Equal(t, []string{"texts, row 7, body"}, c.Where, name)
	}
	typed, err := evidence.Personal(ctx, s, base(t, "INSERT INTO texts VALUES (7, 'Mara Quillon')"),
		map[baseline.TypedRow]bool{{Table: "texts", Address: "7"}: true})
	require.NoError(t, err)
	assert.Equal(t, evidence.Holds, typed.Verdict, "it was written on the copy, and carried home")
	assert.Equal(t, "none found; beside 1 value written on the copy and carried home", typed.Copy)
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	_, err = evidence.Personal(stopped, s, base(t, "INSERT INTO texts VALUES (1, 'x')"), nil)
	assert.ErrorIs(t, err, context.Canceled)
}
