package carry_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// write writes files of a site; an empty text removes one.
func write(t *testing.T, s site.Site, files map[string]string) {
	t.Helper()
	for name, text := range files {
		file := filepath.Join(s.Root, name)
		if text == "" {
			require.NoError(t, os.RemoveAll(file))
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
}

// content lists the files and folders of a site with what is in them, but for the core's and what is in uploads.
func content(t *testing.T, s site.Site) string {
	t.Helper()
	var out strings.Builder
	require.NoError(t, filepath.WalkDir(s.Root, func(name string, d os.DirEntry, err error) error {
		require.NoError(t, err)
		rel, err := filepath.Rel(s.Root, name)
		require.NoError(t, err)
		if rel == "wp-admin" || rel == "wp-includes" || rel == "wp-content/uploads" {
			return filepath.SkipDir
		}
		fi, err := d.Info()
		require.NoError(t, err)
		fmt.Fprintf(&out, "%s %s", rel, fi.Mode())
		if fi.Mode().IsRegular() {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			fmt.Fprintf(&out, " %d %q", fi.ModTime().Unix(), text)
		}
		out.WriteByte('\n')
		return nil
	}))
	return out.String()
}

const (
	tides = "wp-content/plugins/tides/"
	skin  = "wp-content/themes/skerry/"

	tidesFile = "<?php\n/*\nPlugin Name: Tides\nVersion: 2.1\n*/"
)

// newPlugin switches one on in place of the one that was.
const newPlugin = `UPDATE sk_options SET option_value = 'a:1:{i:0;s:15:"tides/tides.php";}' ` +
	"WHERE option_name = 'active_plugins'"

// A plugin, a theme and a file that changed are told as such, and come home with what needs them.
func TestPluginsThemesAndFilesAreCarried(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	require.Contains(t, get(t, live, "SELECT option_value FROM sk_options WHERE option_name = 'active_plugins'"),
		"tide-table/tide-table.php")
	was := content(t, live)
	style, err := os.ReadFile(filepath.Join(s.Root, skin, "style.css"))
	require.NoError(t, err)
	write(t, s, map[string]string{tides + "tides.php": tidesFile, tides + "lib/moon.php": "<?php",
		skin + "style.css": string(style) + "a{color:red}", "robots.txt": "User-agent: *", "humans.txt": "ours",
		"wp-content/plugins/tide-table": "", "wp-content/cache/page.html": "x", "wp-content/debug.log": "x",
		"wp-content/uploads/page.css": "a{background:url(" + s.Address().String() + "/x.png)}"})
	require.NoError(t, os.Symlink(filepath.Join(s.Root, tides, "tides.php"), filepath.Join(s.Root, tides, "main.php")))
	write(t, live, map[string]string{skin + "extra.css": "b{}", "humans.txt": "theirs"})
	on(t, s, newPlugin, "CREATE TABLE sk_moons (id INT PRIMARY KEY)")
	got := lines(drifted(t, w, s))
	assert.Equal(t, []string{
		`file:humans.txt file "humans.txt" copy made live made: humans.txt`,
		`file:robots.txt file "robots.txt" copy made live : robots.txt`,
		`file:wp-content/uploads/page.css file "page.css" copy made live : wp-content/uploads/page.css`,
		`plugin:tide-table plugin "Tide Table" copy gone live : tide-table.php`,
		`plugin:tides plugin "Tides" copy made live : lib/moon.php main.php tides.php`,
		`setting:active_plugins setting "active_plugins" copy changed live : option_value`,
		`theme:skerry theme "Skerry" copy changed live changed: extra.css style.css`,
	}, got)

	p, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"plugin:tide-table", "theme:skerry"}})
	assert.Contains(t, fmt.Sprint(p.Goes), `plugin "Tides" (plugin:tides) is made; others need it`)
	assert.Contains(t, fmt.Sprint(p.Findings), "theme:skerry was changed on both sides, in different places")
	assert.Contains(t, fmt.Sprint(p.Findings), "table sk_moons is on the copy alone")
	assert.Contains(t, r.Result, "4 items carried from winter; 5 files and 1 row is as it should be")
	assert.FileExists(t, filepath.Join(live.Root, tides, "lib/moon.php"))
	to, err := os.Readlink(filepath.Join(live.Root, tides, "main.php"))
	require.NoError(t, err)
	assert.Equal(t, "../../../wp-content/plugins/tides/tides.php", to, "what it leads to is in the live site itself")
	assert.NoDirExists(t, filepath.Join(live.Root, "wp-content/plugins/tide-table"))
	entries, err := filepath.Glob(filepath.Join(live.Root, ".alibi*"))
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing of the run is left there")
	assert.Contains(t, strings.Join(lines(drifted(t, w, s)), "\n"),
		`theme:skerry theme "Skerry" copy  live changed: extra.css`)

	for item, why := range map[string]string{"file:humans.txt": "both sides changed it",
		"file:wp-content/uploads/page.css": "holds \"" + s.Address().HostPort() + "\", which is the copy's"} {
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, Items: []string{item}})
		require.NoError(t, err)
		assert.True(t, p.Blocked(), item)
		assert.Contains(t, fmt.Sprint(p.Findings), why)
	}
	_, second := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"file:robots.txt", "file:humans.txt"},
		Take: map[string]carry.Side{"file:humans.txt": carry.Copy}})
	text, err := os.ReadFile(filepath.Join(live.Root, "humans.txt"))
	require.NoError(t, err)
	assert.Equal(t, "ours", string(text))
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	assert.FileExists(t, filepath.Join(s.Root, skin, "extra.css"))
	assert.Len(t, lines(drifted(t, w, s)), 1, "but for the file with the copy's address")
	on(t, s, "DROP TABLE sk_moons")
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, rep.Summary())

	write(t, live, map[string]string{"robots.txt": "by others"})
	undone(t, w, second.ID)
	rec, err := w.Desk.Copies.Carried(second.ID)
	require.NoError(t, err)
	assert.Empty(t, rec.Left)
	text, err = os.ReadFile(filepath.Join(live.Root, "robots.txt"))
	require.NoError(t, err)
	assert.Equal(t, "by others", string(text), "what others wrote since stays")
	undone(t, w, r.ID)
	write(t, live, map[string]string{"robots.txt": "", "humans.txt": "", skin + "extra.css": ""})
	assert.Equal(t, was, content(t, live), "all of it is undone")
}

// What makes a copy the one that it is stays there, and what opens the live site does not come to a copy.
func TestFilesThatAreNotForTheOtherSideAreLeft(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	config, err := os.ReadFile(filepath.Join(live.Root, "wp-config.php"))
	require.NoError(t, err)
	write(t, live, map[string]string{"kept/config.txt": string(config), "kept/other.txt": "x"})
	write(t, s, map[string]string{"wp-content/mu-plugins/rules.php": "<?php /* Written by Alibi */"})
	for to, why := range map[carry.Side]string{carry.Live: "file:wp-content/mu-plugins/rules.php is not carried: " +
		"wp-content/mu-plugins/rules.php was written by Alibi for the copy",
		carry.Copy: "file:kept/config.txt is not carried: kept/config.txt holds what opens the live site"} {
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: to, All: true})
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(p.Findings), why)
		assert.Equal(t, to == carry.Copy, len(p.Goes) == 1, "%v", p.Goes)
	}
}

// A picture that was made on a copy without the live site's media goes home with its file all the same.
func TestAPictureGoesHomeFromACopyWithoutMedia(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Skip = []string{"wp-content/uploads"} })
	for i, name := range []string{"fog", "storm"} {
		on(t, s, fmt.Sprintf(insertPost, 9001+i, "", name, name, "x"),
			fmt.Sprintf("UPDATE sk_posts SET post_type = 'attachment', post_status = 'inherit' WHERE ID = %d", 9001+i),
			fmt.Sprintf("INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (%d, '_wp_attached_file', "+
				"'2027/%s.jpg')", 9001+i, name))
	}
	write(t, s, map[string]string{"wp-content/uploads/2027/fog.jpg": "fog", "wp-content/uploads/2027/storm.jpg": "storm"})
	write(t, live, map[string]string{"wp-content/uploads/2027/storm.jpg": "another",
		"wp-content/uploads/2027/old.jpg": "x"})
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.Contains(t, r.Result, "1 item carried from winter; 1 file and 2 rows are as they should be")
	assert.Contains(t, fmt.Sprint(p.Findings), "the other side has another file at wp-content/uploads/2027/storm.jpg")
	text, err := os.ReadFile(filepath.Join(live.Root, "wp-content/uploads/2027/fog.jpg"))
	require.NoError(t, err)
	assert.Equal(t, "fog", string(text))
	for _, l := range lines(drifted(t, w, s)) {
		assert.NotContains(t, l, "old.jpg", "what was not copied is no difference")
		assert.NotContains(t, l, "fog")
	}
}

// A run with files that is killed at any moment goes on or is taken back, and visitors see no notice afterwards.
func TestCarryingFilesKilledAndCancelledAtEachMoment(t *testing.T) {
	w, live, s := pair(t)
	w.Stop()
	files := map[string]string{tides + "tides.php": tidesFile, skin + "style.css": "a{}",
		"wp-content/plugins/tide-table": ""}
	for i := range 20 {
		files[fmt.Sprintf("%slib/part%d.php", tides, i)] = "<?php"
	}
	write(t, s, files)
	on(t, s, newPlugin)
	for _, m := range []string{"look end", "stage begin", "stage end", "files begin", "files end", "apply begin",
		"apply end", "prove end"} {
		t.Run(m, func(t *testing.T) {
			is := func() string { return content(t, live) + rows(t, live) }
			killedAndCancelled(t, w, wished(w, s, carry.Wish{To: carry.Live, All: true}), m, is, func(r plan.Run) {
				assert.Contains(t, r.Result, "4 items carried from winter; 23 files and 1 row is as it should be")
				assert.Nil(t, w.Site(live.Name).Front)
			})
		})
	}
}

// What others change on the live site while a run is under way stays, and the run says so.
func TestAFileThatOthersChangeDuringARunStays(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	w.Stop()
	write(t, s, map[string]string{skin + "style.css": "a{}", "robots.txt": "ours"})
	for _, m := range []string{"look end", "keep end"} {
		write(t, live, map[string]string{skin + "style.css": "/* as it was */", "robots.txt": ""})
		write(t, s, map[string]string{skin + "style.css": "a{" + m + "}"})
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, All: true,
			Take: map[string]carry.Side{"theme:skerry": carry.Copy}})
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.NoError(t, err)
		demotest.KilledAt(t, w.World, m)
		write(t, live, map[string]string{skin + "style.css": "/* by others */"})
		before := content(t, live)
		w.Keep()
		r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
		require.NoError(t, err)
		assert.Equal(t, plan.Cancelled, r.State)
		assert.Contains(t, r.Error, skin+"style.css of "+live.Name+" was changed by others meanwhile; nothing was "+
			"written, start "+
			"it again")
		assert.Equal(t, before, content(t, live))
		w.Stop()
	}
}
