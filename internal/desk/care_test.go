package desk_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/site"
)

func TestCachesAreEmptied(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "cached")
	cached := filepath.Join(s.Root, "wp-content/cache/page.html")
	require.NoError(t, os.MkdirAll(filepath.Dir(cached), 0o755))
	require.NoError(t, os.WriteFile(cached, []byte(strings.Repeat("old", 100)), 0o644))
	object := filepath.Join(s.Root, "wp-content/object-cache.php")
	require.NoError(t, os.WriteFile(object+".off", []byte("<?php // a cache of objects that does nothing\n"), 0o644))
	_, err := w.Desk.Hands.Query(ctx, s.ID, "INSERT INTO sk_options (option_name, option_value, autoload) VALUES "+
		"('_transient_tides', 'old', 'no')", true, 1)
	require.NoError(t, err)
	_, err = w.Desk.Fleet.Inspect(ctx, s.ID)
	require.NoError(t, err)
	done(t, w)(w.Desk.Hands.PlanCaches(ctx, s.ID, ""))
	assert.NoFileExists(t, cached)
	assert.Equal(t, "0", counted(t, w, s, "SELECT COUNT(*) FROM sk_options WHERE option_name='_transient_tides'"))
	done(t, w)(w.Desk.Hands.PlanCaches(ctx, s.ID, "on"))
	assert.FileExists(t, object)
	done(t, w)(w.Desk.Hands.PlanCaches(ctx, s.ID, "off"))
	assert.NoFileExists(t, object)
	_, err = w.Desk.Hands.PlanCaches(ctx, s.ID, "off")
	assert.ErrorContains(t, err, "can't be switched off")
	_, err = w.Desk.Hands.PlanCaches(ctx, live.ID, "sideways")
	assert.ErrorContains(t, err, "is on or off")
}

func TestPagesAreTimed(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	s := w.Copy("ferry", "timed")
	list, err := w.Desk.Hands.Timings(ctx, s.ID, true)
	require.NoError(t, err)
	require.Greater(t, len(list), 4)
	for _, x := range list {
		assert.Positive(t, x.Took)
		assert.Zero(t, x.Origin, "the made-up live site is nowhere")
		if x.Path == "/" {
			assert.Equal(t, 200, x.Status)
			assert.Greater(t, x.Bytes, 1000)
		}
	}
	_, err = w.Desk.Hands.Timings(ctx, live.ID, false)
	assert.ErrorContains(t, err, "is a live site")
}

func TestAShellWhereACopyIs(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy("crew", "shell")
	x, err := w.Desk.Hands.ShellOf(ctx, s.ID, false)
	require.NoError(t, err)
	assert.Equal(t, s.Root, x.Dir)
	cmd := exec.Command("sh", "-c", `echo "$ALIBI_URL $ALIBI_ROOT"`)
	for k, v := range x.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	out, err := cmd.Output()
	require.NoError(t, err)
	assert.Equal(t, s.Address().String()+" "+s.Root, strings.TrimSpace(string(out)))
	_, err = w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Host, s.Root = "pier", "/srv/it's here"
		return nil
	})
	require.NoError(t, err)
	x, err = w.Desk.Hands.ShellOf(ctx, s.ID, false)
	require.NoError(t, err)
	assert.Equal(t, "ssh", x.Command[0])
	assert.Equal(t, `cd '/srv/it'\''s here' && exec "${SHELL:-sh}" -l`, x.Command[len(x.Command)-1])
	assert.Contains(t, x.Open, "allows no commands", "it is not behind a wall")
	_, err = w.Desk.Hands.ShellOf(ctx, w.Site("crew.skerryline.example").ID, false)
	assert.ErrorContains(t, err, "is a live site")
}

func TestALookAtSafety(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy("https://skerryline.example", "safe")
	evil := filepath.Join(s.Root, "wp-content/uploads/2026/x.php")
	require.NoError(t, os.MkdirAll(filepath.Dir(evil), 0o755))
	require.NoError(t, os.WriteFile(evil, []byte("<?php "+strings.Repeat("// nobody uploads code\n", 5)), 0o644))
	_, err := w.Desk.Workings().Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Quiet = s.Quiet[1:]
		s.Runtime.Show = true
		return nil
	})
	require.NoError(t, err)
	list, err := w.Desk.Hands.Security(ctx, s.ID)
	require.NoError(t, err)
	got := map[string]string{}
	for _, f := range list {
		got[f.Code] += f.Text + "\n"
	}
	assert.Contains(t, got["code"], "wp-content/uploads/2026/x.php is code among uploads")
	assert.Contains(t, got["admins"], "1 of 6 accounts may do everything: runa")
	assert.Contains(t, got["outdated"], "tide-table 2.4.1")
	assert.Contains(t, got["unused"], "old-slider")
	assert.Contains(t, got["quiet"], "the quiet rule for mail is off")
	assert.Contains(t, got["errors"], "errors are shown")
	assert.Contains(t, got["people"], "holds its origin's people")
	assert.Equal(t, site.Warn, list[0].Severity, "the worst comes first")
	_, err = w.Desk.Hands.Security(ctx, w.Site("status").ID)
	assert.ErrorContains(t, err, "has no CMS")
}

func TestDeliveriesAreCounted(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy("https://skerryline.example", "code")
	dir := filepath.Join(t.TempDir(), "fares.git")
	repo, err := git.PlainInit(dir, false)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.php"),
		[]byte("<?php\n/*\nPlugin Name: Fares\nVersion: 1.2\n*/\n"), 0o644))
	tree, err := repo.Worktree()
	require.NoError(t, err)
	_, err = tree.Add("fares.php")
	require.NoError(t, err)
	_, err = tree.Commit("fares", &git.CommitOptions{
		Author: &object.Signature{Name: "runa", Email: "runa@skerryline.example"},
	})
	require.NoError(t, err)
	list, err := w.Desk.Fleet.Deliveries(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
	src, err := site.ParseSource(site.Plugin, dir)
	require.NoError(t, err)
	p, err := w.Desk.Components.PlanChange(ctx, s.ID, desk.ChangeWish{Put: []site.Source{src}}, nil)
	require.NoError(t, err)
	require.Empty(t, w.Run(p).Error)
	list, err = w.Desk.Fleet.Deliveries(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "plugin fares 1.2", list[0].What)
	assert.Equal(t, "code", list[0].Site)
	assert.Equal(t, dir, list[0].From)
}
