package outside_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/stack"
)

// What a site can do without is weighed, asked for, and taken out; all else stays, and it comes back.
func TestWhatASiteCanDoWithout(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{})
	l := w.Live("ferry")
	s := l.Site
	db := l.Spec.Database
	post := func(id, status, kind, parent string) string {
		return "INSERT INTO sk_posts (ID, post_author, post_date, post_date_gmt, post_content, post_title, post_excerpt, " +
			"post_status, post_name, to_ping, pinged, post_modified, post_modified_gmt, post_content_filtered, post_parent, " +
			"guid, post_type) VALUES (" + id + ", 1, NOW(), NOW(), 'tide', 'Tide', '', '" + status + "', '', '', '', NOW(), " +
			"NOW(), '', " + parent + ", '', '" + kind + "')"
	}
	for _, q := range []string{
		"DELETE FROM sk_posts WHERE post_type = 'revision'",
		post("9001", "inherit", "revision", "1"), post("9002", "trash", "post", "0"),
		post("9003", "inherit", "revision", "9002"), post("9004", "publish", "post", "0"),
		"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (9001, 'x', 'of a version'), (9004, 'x', 'stays'), " +
			"(99999, 'x', 'of nothing')",
		"INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_content, comment_approved) VALUES " +
			"(9001, 9004, 'M', 'buy', 'spam'), (9002, 9004, 'M', 'binned', 'trash'), (9003, 9002, 'M', 'in the bin', '1'), " +
			"(9004, 9004, 'M', 'stays', '1')",
		"INSERT INTO sk_commentmeta (comment_id, meta_key, meta_value) VALUES (9001, 'x', 'of spam'), (9004, 'x', 'stays')",
		"DELETE FROM sk_options WHERE option_name LIKE '%transient%'",
		"INSERT INTO sk_options (option_name, option_value) VALUES ('_transient_timeout_a', '1'), " +
			"('_transient_a', 'over'), ('_transient_timeout_b', '99999999999'), ('_transient_b', 'stays'), " +
			"('_transient_c', 'stays')",
	} {
		require.NoError(t, mariadbtest.DB(db).Exec(ctx, q), q)
	}
	all := func() string {
		text, err := mariadbtest.Text(db, "SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM sk_posts), (SELECT COUNT(*) FROM "+
			"sk_postmeta), (SELECT COUNT(*) FROM sk_comments), (SELECT COUNT(*) FROM sk_commentmeta), (SELECT "+
			"GROUP_CONCAT(option_value ORDER BY option_name) FROM sk_options WHERE option_name LIKE '\\_transient\\__'))")
		require.NoError(t, err)
		return text
	}
	w.Keep()
	lost, stays := lie(t, s.Root)
	rows, files := map[string]int64{}, map[string]int64{}
	list, err := w.Desk.Copies.Trims(ctx, s.ID)
	require.NoError(t, err)
	for _, x := range list {
		rows[x.Name] = x.Rows
		assert.Equal(t, x.Rows+x.Count > 0, x.Bytes > 0, x.Name)
		files[x.Name] = x.Count
	}
	assert.Equal(t, map[string]int64{"revisions": 2, "bin": 4, "spam": 2, "transients": 2, "orphans": 1, "media": 0,
		"copies": 0}, rows)
	assert.Equal(t, map[string]int64{"revisions": 0, "bin": 0, "spam": 0, "transients": 0, "orphans": 0, "media": 2,
		"copies": 2}, files)

	sheet := filepath.Join(t.TempDir(), "trim.toml")
	_, err = w.Desk.Copies.WriteTrimSheet(ctx, s.ID, sheet)
	require.NoError(t, err)
	_, err = w.Desk.Copies.WriteTrimSheet(ctx, s.ID, sheet)
	require.ErrorIs(t, err, os.ErrExist, "what somebody filled in is not written over")
	_, err = w.Desk.Copies.ReadTrimSheet(s, sheet)
	require.ErrorContains(t, err, "nothing is to be done")
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	parts := strings.SplitAfter(string(text), "[[part]]")
	for i := range parts {
		if !strings.Contains(parts[i], "'bin'") {
			parts[i] = strings.Replace(parts[i], "drop = false", "drop = true", 1)
		}
	}
	require.NoError(t, os.WriteFile(sheet, []byte(strings.Join(parts, "")), 0o600))
	_, err = w.Desk.Copies.ReadTrimSheet(s, sheet)
	require.ErrorContains(t, err, "not who decided")
	decided := strings.ReplaceAll(strings.Join(parts, ""), "by = ''", "by = 'Runa'")
	require.NoError(t, os.WriteFile(sheet, []byte(decided), 0o600))
	drop, err := w.Desk.Copies.ReadTrimSheet(s, sheet)
	require.NoError(t, err)
	assert.Equal(t, []string{"revisions", "spam", "transients", "orphans", "media", "copies"}, drop)

	was := all()
	trim := func(parts ...string) plan.Run {
		p, err := w.Desk.Copies.PlanClean(ctx, s.ID, reset.Clean{Wish: stack.Wish{Trim: parts}}, "")
		require.NoError(t, err)
		require.Equal(t, s.Name, p.Confirm, "it is live")
		r := resettest.Await(t, w.World, resettest.Start(t, w.World, p))
		require.Equal(t, plan.Done, r.State, r.Error)
		return r
	}
	trim(drop...)
	list, err = w.Desk.Copies.Trims(ctx, s.ID)
	require.NoError(t, err)
	for _, x := range list {
		assert.Equal(t, x.Name == "bin", x.Rows+x.Count > 0, "%s: %d", x.Name, x.Rows)
	}
	assert.Contains(t, all(), "stays,stays")
	for _, name := range lost {
		assert.NoFileExists(t, filepath.Join(s.Root, name))
	}
	for _, name := range stays {
		assert.FileExists(t, filepath.Join(s.Root, name))
	}
	assert.Equal(t, 200, l.Get("/"))
	trim("bin")
	_, err = w.Desk.Copies.PlanClean(ctx, s.ID, reset.Clean{Wish: stack.Wish{Trim: []string{"pages"}}}, "")
	require.ErrorContains(t, err, "no part that can be done without")
	left, err := mariadbtest.Text(db, "SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM sk_posts WHERE ID > 9000), "+
		"(SELECT COUNT(*) FROM sk_comments WHERE comment_ID > 9000), "+
		"(SELECT COUNT(*) FROM sk_postmeta WHERE post_id > 9000), "+
		"(SELECT COUNT(*) FROM sk_commentmeta WHERE comment_id > 9000))")
	require.NoError(t, err)
	assert.Equal(t, "1 1 1 1", left, "what the site needs")
	points, _, err := w.Desk.Points.Points(ctx, s.ID)
	require.NoError(t, err)
	require.Len(t, points, 2)
	resettest.Restore(t, w.World, points[1], resettest.Whole)
	assert.Equal(t, was, all())
	for _, name := range lost {
		assert.FileExists(t, filepath.Join(s.Root, name), "it comes back")
	}
}

// lie has files lie in a site: those that nothing names, and some that stay.
func lie(t *testing.T, root string) (lost, stays []string) {
	t.Helper()
	lost = []string{"wp-content/uploads/2019/03/lost-buoy-150x150.jpg", "wp-content/uploads/2019/03/lost-buoy.jpg",
		"wp-content/old-site.zip", "before-the-redesign.sql.gz"}
	stays = []string{"wp-content/uploads/2019/03/tide wall.jpg", "wp-content/plugins/tide-table/fixtures.zip"}
	for _, name := range append(lost, stays...) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte("lies here"), 0o644))
	}
	pictures, err := filepath.Glob(filepath.Join(root, "wp-content/uploads/2*/*/*"))
	require.NoError(t, err)
	for _, p := range pictures {
		rel, err := filepath.Rel(root, p)
		require.NoError(t, err)
		if !slices.Contains(lost, rel) {
			stays = append(stays, rel)
		}
	}
	require.Greater(t, len(stays), 4, "the site has media")
	return lost, stays
}
