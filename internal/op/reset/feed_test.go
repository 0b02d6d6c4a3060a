package reset_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/op/clone"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// brought adds the content of a file to a site and wants that to work.
func brought(t *testing.T, w *demotest.World, s site.Site, file string) {
	t.Helper()
	pl, err := w.Desk.Hands.PlanBring(context.Background(), s.ID, file)
	require.NoError(t, err)
	r := resettest.Await(t, w, resettest.Start(t, w, pl))
	require.Equal(t, plan.Done, r.State, r.Error)
	resettest.Clear(t, w, s.ID)
}

func TestContentIsCarriedByItself(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy(origin, "slate")
	file := filepath.Join(t.TempDir(), "content.xml")
	n, err := w.Desk.Hands.ExportContent(ctx, w.Site(origin), nil, file)
	require.NoError(t, err)
	assert.Positive(t, n)
	_, err = w.Desk.Hands.ExportContent(ctx, w.Site(origin), nil, file)
	assert.ErrorContains(t, err, "nothing is written over")
	_, err = w.Desk.Hands.PlanBring(ctx, s.ID, file)
	require.NoError(t, err)
	posts, comments := value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_type <> 'revision'"),
		value(t, s, "SELECT COUNT(*) FROM sk_comments")
	clean(t, w, s, reset.Clean{Wish: stack.Wish{All: true}}, "")
	brought(t, w, s, file)
	assert.Equal(t, posts, value(t, s, "SELECT COUNT(*) FROM sk_posts"))
	assert.Equal(t, comments, value(t, s, "SELECT COUNT(*) FROM sk_comments"))
	assert.Equal(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_content LIKE '%//skerryline.example%'"),
		"its addresses are the copy's")
	pl, err := w.Desk.Hands.PlanBring(ctx, s.ID, file)
	require.NoError(t, err)
	assert.True(t, pl.Blocked(), "twice brings nothing")
	only := filepath.Join(t.TempDir(), "pages.xml")
	n, err = w.Desk.Hands.ExportContent(ctx, s, []site.Kind{site.Pages}, only)
	require.NoError(t, err)
	text, err := os.ReadFile(only)
	require.NoError(t, err)
	assert.Equal(t, n, strings.Count(string(text), "<item>"))
	assert.NotContains(t, string(text), "<wp:post_type>post</wp:post_type>")
	for _, bad := range []string{"", "<rss><channel></channel></rss>",
		"<rss><channel><wp:wxr_version>1.2</wp:wxr_version><item><title>x</item>",
		"<!DOCTYPE x [<!ENTITY e SYSTEM " +
			"\"file:///etc/passwd\">]><rss><channel><item><title>&e;</title></item></channel></rss>"} {
		require.NoError(t, os.WriteFile(only, []byte(bad), 0o600))
		_, err := w.Desk.Hands.PlanBring(ctx, s.ID, only)
		assert.Error(t, err, bad)
	}
}

func TestWhatTheCMSExportsIsImported(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	s := w.Copy(live.Name, "slate")
	file := filepath.Join(t.TempDir(), "content.xml")
	out, err := exec.Command(
		"php",
		"-r",
		"$_SERVER['HTTP_HOST']='x'; require '"+live.Root+
			"/wp-load.php'; require ABSPATH.'wp-admin/includes/export.php'; export_wp();",
	).Output()
	require.NoError(t, err, string(out))
	require.NoError(t, os.WriteFile(file, out, 0o600))
	count := "SELECT COUNT(*) FROM sk_posts WHERE post_type IN ('post', 'page', 'attachment') AND post_status <> " +
		"'auto-draft'"
	posts := value(t, s, count)
	clean(t, w.World, s, reset.Clean{Wish: stack.Wish{All: true}}, "")
	brought(t, w.World, s, file)
	assert.Equal(t, posts, value(t, s, count))
	assert.NotEqual(t, "0", value(t, s, "SELECT COUNT(*) FROM sk_term_relationships"))
	r := resettest.Await(t, w.World, resettest.Start(t, w.World, func() plan.Plan {
		pl, err := w.Desk.Copies.PlanClean(context.Background(), s.ID,
			reset.Clean{Wish: stack.Wish{Kinds: []site.Kind{site.Posts}}}, "")
		require.NoError(t, err)
		return pl
	}()))
	assert.Contains(t, r.Result, "its first page answers 200")
}

func TestACopyComesBackToWhatItWasWhenItWasMade(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	o := w.Site(origin)
	c, err := w.Desk.Copies.CopyDefaults(ctx, o, "a test")
	require.NoError(t, err)
	c.Name, c.Keep = "fresh", true
	pl, err := w.Desk.Copies.PlanCopy(ctx, o.ID, c)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(pl).State)
	s := w.Site("fresh")
	p, err := w.Desk.Points.MadePoint(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, clone.AsMade, p.Why)
	damage(t, s)
	resettest.Restore(t, w, p, resettest.Whole)
	resettest.Same(t, w, p)
	_, err = w.Desk.Points.MadePoint(ctx, w.Copy(origin, "other"))
	assert.ErrorContains(t, err, "alibi copy --keep")
}
