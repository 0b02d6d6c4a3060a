package outside_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/ballast"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// one gives the only value of a statement.
func one(t *testing.T, w *demotest.World, s site.Site, statement string) string {
	t.Helper()
	r, err := w.Desk.Hands.Query(context.Background(), s.ID, statement, false, 2)
	require.NoError(t, err)
	require.NotEmpty(t, r.Rows)
	return *r.Rows[0][0]
}

// What is done by hand (content made up and taken out, files edited, people made
// up) is done resettest.Whole or not at all, wherever it is killed or cancelled.
func TestHandsOnKilledAndCancelledAtEachMoment(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "hands")
	resettest.Kept(t, w.World, s) // the first one takes longest
	w.Stop()
	ctx := context.Background()
	file := "wp-content/plugins/tide-table/tide-table.php"
	text, err := w.Desk.Hands.FileText(ctx, s.ID, file)
	require.NoError(t, err)
	count := func() string {
		return one(t, w.World, s, "SELECT COUNT(*) FROM sk_posts WHERE guid LIKE 'urn:x-alibi:%'")
	}
	for i, moment := range []string{"keep end", "tables end", "files end", "prove end"} {
		t.Run(moment, func(t *testing.T) {
			l := ballast.Load{Seed: uint64(i + 1), Counts: map[string]int{"posts": 3, "media": 2, "terms": 1}}
			was := count()
			p, err := w.Desk.Hands.PlanBallast(ctx, s.ID, l)
			require.NoError(t, err)
			r := resettest.Start(t, w.World, p)
			demotest.KilledAt(t, w.World, moment)
			picture := filepath.Join(s.Root, "wp-content/uploads/alibi-ballast", l.Slug("media", 0)+".png")
			if i%2 == 0 {
				demotest.Resumed(t, w.World, r.ID)
				assert.FileExists(t, picture)
				assert.NotEqual(t, was, count())
			} else {
				require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
				w.Keep()
				r = resettest.Await(t, w.World, r)
				w.Stop()
				assert.Equal(t, plan.Cancelled, r.State, r.Error)
				assert.NoFileExists(t, picture)
				assert.Equal(t, was, count())
			}
			resettest.Clear(t, w.World, s.ID)

			at := moment
			if at == "tables end" { // an edit of a file has no such step
				at = "stage end"
			}
			p, err = w.Desk.Hands.PlanEdit(ctx, s.ID, file, append(text, []byte("\n// "+moment+"\n")...), false)
			require.NoError(t, err)
			r = resettest.Start(t, w.World, p)
			demotest.KilledAt(t, w.World, at)
			demotest.Resumed(t, w.World, r.ID)
			is, err := w.Desk.Hands.FileText(ctx, s.ID, file)
			require.NoError(t, err)
			assert.Contains(t, string(is), "// "+moment)
		})
	}
	p, err := w.Desk.Hands.PlanScrub(ctx, s.ID)
	require.NoError(t, err)
	r := resettest.Start(t, w.World, p)
	demotest.KilledAt(t, w.World, "tables end")
	demotest.Resumed(t, w.World, r.ID)
	k, err := w.Desk.Hands.PeopleLeft(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, "none found", k.Copy, "%v", k.Where)
}

// A PHP that says its version and then does not start leaves the copy as it was.
func TestARuntimeThatDoesNotStart(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	dir := t.TempDir()
	for name, sapi := range map[string]string{"php": "cli", "php-fpm": "fpm-fcgi"} {
		require.NoError(
			t,
			os.WriteFile(
				filepath.Join(dir, name),
				[]byte(
					"#!/bin/sh\ncase \"$*\" in *-v*) echo 'PHP 8.3.99 ("+sapi+
						")';; *) echo it is broken >&2; exit 70;; esac\n",
				),
				0o755,
			),
		)
	}
	c := w.Desk.Config()
	c.Runtime.PHP = append(c.Runtime.PHP, dir)
	require.NoError(t, desk.SaveConfig(w.Base, c))
	w.Open()
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	before := resettest.Kept(t, w.World, s)
	r := changing(t, w.World, s, desk.ChangeWish{Runtime: &site.Runtime{PHP: "8.3"}})
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "the copy does not answer")
	assert.Equal(t, s.Runtime, w.Site("trial").Runtime)
	resettest.Same(t, w.World, before)
	status, _ := page(t, s)
	assert.Equal(t, 200, status)

	p, err := w.Desk.Components.PlanTrial(context.Background(), s.ID, desk.TrialWish{Runtimes: []string{"8.2", "8.3"}})
	require.NoError(t, err)
	r = resettest.Await(t, w.World, resettest.Start(t, w.World, p))
	require.Equal(t, plan.Done, r.State, r.Error)
	_, m, err := w.Desk.Components.Trial(context.Background(), r.ID)
	require.NoError(t, err)
	for _, c := range m.Cells {
		if c.PHP == "8.3" {
			assert.Contains(t, c.Reason, "its runtime does not start")
			assert.False(t, strings.Contains(c.Reason, w.Base), c.Reason)
		} else {
			assert.Empty(t, c.Reason)
		}
	}
}

// A copy runs with an extension less, and as before again.
func TestExtensionsOfACopy(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(s.Root, "has.php"),
			[]byte(
				"<?php echo extension_loaded('gd') ? 'has gd' : 'no gd', ' ', extension_loaded('mysqli') ? "+
					"'mysqli' : '';",
			),
			0o644,
		),
	)
	has := func() string {
		s := w.Site("trial")
		_, text, err := w.Desk.Workings().Env.Post(context.Background(), s, "/has.php", nil)
		require.NoError(t, err)
		return text
	}
	assert.Equal(t, "has gd mysqli", has())
	for _, series := range []string{"8.2", "7.4", "8.4"} {
		changed(t, w.World, s, desk.ChangeWish{Runtime: &site.Runtime{PHP: series, Extensions: "-gd"}})
		assert.Equal(t, "no gd mysqli", has(), series)
		status, _ := page(t, s)
		assert.Equal(t, 200, status)
	}
	changed(t, w.World, s, desk.ChangeWish{Runtime: &site.Runtime{PHP: "8.2"}})
	assert.Equal(t, "has gd mysqli", has())
	p, err := w.Desk.Components.PlanChange(context.Background(), s.ID,
		desk.ChangeWish{Runtime: &site.Runtime{PHP: "8.2", Extensions: "+nothing"}}, nil)
	require.NoError(t, err)
	assert.True(t, p.Blocked())
	assert.Contains(t, p.Findings[0].Text, "has no extension nothing")
}
