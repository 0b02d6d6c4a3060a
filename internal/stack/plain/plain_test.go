package plain

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/ballast"
	"alibi/internal/host/local"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

func place(t *testing.T, dir string) stack.Place {
	t.Helper()
	h := local.New("slipway")
	r, err := h.Open(context.Background(), dir)
	require.NoError(t, err)
	return stack.Place{Host: h, Root: r, Temp: t.TempDir()}
}

func TestPlainSite(t *testing.T) {
	dir := t.TempDir()
	ctx := context.Background()
	s := Stack{}
	assert.False(t, s.Is(ctx, place(t, dir)))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.html"), []byte("<p>boats"), 0o644))
	assert.True(t, s.Is(ctx, place(t, dir)))
	f, err := s.Inspect(ctx, place(t, dir))
	require.NoError(t, err)
	assert.Equal(t, 1, f.Files)
	assert.Empty(t, f.Database.Engine)
	assert.Positive(t, f.Free)
}

func TestPlainSiteWithADatabase(t *testing.T) {
	dir := t.TempDir()
	ctx := context.Background()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "data", "not.db"), []byte("no database"), 0o644))
	db, err := sql.Open("sqlite", filepath.Join(dir, "data", "boats.sqlite"))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE boats (name TEXT); INSERT INTO boats VALUES ('Tern'), ('Gull')")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	f, err := Stack{}.Inspect(ctx, place(t, dir))
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "data/boats.sqlite"), f.Database.Path)
	assert.EqualValues(t, 2, f.Rows)
	require.Len(t, f.Tables, 1)
	assert.True(t, f.Tables[0].Keyless)
	assert.Equal(t, 2, f.Files, "without the database")
}

func TestWhatIsProse(t *testing.T) {
	s := Stack{}
	assert.Equal(t, rewrite.Prose, s.Scope("pages", "body_text"))
	assert.Equal(t, rewrite.Prose, s.Scope("x", "Description"))
	assert.Equal(t, rewrite.Settings, s.Scope("config", "value"))
	assert.Zero(t, stack.SettingsOf(s).Adjust(stack.Change{}, tables.Table{}, tables.Row{}))
	files, err := stack.SettingsOf(s).Configure(context.Background(), stack.Place{}, stack.Change{})
	require.NoError(t, err)
	assert.Empty(t, files)
}

func TestWhatAPlainSiteLacksIsSaid(t *testing.T) {
	ctx, s := context.Background(), Stack{}
	_, err := stack.ContentsOf(s).Clean(ctx, nil, "", stack.Wish{})
	assert.ErrorContains(t, err, "bring it to a restore point")
	_, err = stack.PeopleOf(s).Account(ctx, nil, "", stack.AccountWish{})
	assert.ErrorContains(t, err, "knows no accounts")
	_, err = stack.FillerOf(s).Ballast(ctx, nil, site.Facts{}, ballast.Load{}, time.Time{})
	assert.ErrorContains(t, err, "knows no kinds of content")
	assert.Empty(t, stack.NoticesOf(s).Notice(site.Front{}))
	assert.False(t, stack.SecretsOf(s).Redact("").Has("config.php"))
	assert.False(t, stack.ComponentsOf(s).CoreFile("index.php"))
}
