package carry_test

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/baseline"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// on runs statements in a site's database.
func on(t *testing.T, s site.Site, statements ...string) {
	t.Helper()
	for _, q := range statements {
		require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(context.Background(), q), q)
	}
}

// get asks a site's database for one text.
func get(t *testing.T, s site.Site, query string) string {
	t.Helper()
	text, err := mariadbtest.Text(s.Database.Name, query)
	require.NoError(t, err, query)
	return text
}

// pair makes a live site, runs statements in its database, and makes a copy of it.
func pair(t *testing.T, statements ...string) (w *realtest.World, live, copied site.Site) {
	t.Helper()
	return pairOf(t, func(*clone.Choices) {}, statements...)
}

// pairOf makes the copy as it is chosen.
func pairOf(t *testing.T, choose func(*clone.Choices), statements ...string) (w *realtest.World, live,
	copied site.Site) {
	t.Helper()
	w = realtest.New(t, realtest.Options{})
	live = w.Make("ferry")
	on(t, live, statements...)
	w.Keep()
	ctx := context.Background()
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
	require.NoError(t, err)
	c.Name, c.Scrub = "winter", "off"
	choose(&c)
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return w, w.Site(live.Name), w.Site("winter")
}

func drifted(t *testing.T, w *realtest.World, s site.Site) []*drift.Item {
	t.Helper()
	d, err := w.Desk.Copies.Drift(context.Background(), s.ID)
	require.NoError(t, err)
	return slices.DeleteFunc(d.Items, func(it *drift.Item) bool { return it.Noise })
}

// line writes an item as a test wants it.
func line(it *drift.Item) string {
	return fmt.Sprintf("%s %s %q copy %s live %s: %s", it.Name, it.Kind, it.Title, it.Copy, it.Live,
		strings.Join(it.Fields, " "))
}

func lines(items []*drift.Item) (out []string) {
	for _, it := range items {
		out = append(out, line(it))
	}
	slices.Sort(out)
	return out
}

const insertPost = "INSERT INTO sk_posts (ID, post_author, post_date, post_date_gmt, post_content, post_title, " +
	"post_excerpt, post_status, post_name, to_ping, pinged, post_modified, post_modified_gmt, post_content_filtered, " +
	"guid, post_type) VALUES (%d, 1, NOW(), NOW(), '%s', '%s', '', 'publish', '%s', '', '', NOW(), NOW(), '', '%s', " +
	"'page')"

func TestDriftIsToldItemByItem(t *testing.T) {
	w, live, s := pair(t)
	assert.Empty(t, lines(drifted(t, w, s)), "nothing changed")
	id := get(t, s, "SELECT CONCAT(ID) FROM sk_posts WHERE post_type = 'page' AND post_status = 'publish' LIMIT 1")
	title := get(t, s, "SELECT post_title FROM sk_posts WHERE ID = "+id)
	on(t, s, "UPDATE sk_posts SET post_content = CONCAT(post_content, '\nnew line') WHERE ID = "+id,
		"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES ("+id+", 'berths', '4'), ("+id+
			", '_edit_lock', 'x')",
		"UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'",
		fmt.Sprintf(insertPost, 9001, "new", "Fog", "fog", "http://winter.localhost/?page_id=9001"))
	on(t, live, "UPDATE sk_posts SET post_status = 'draft' WHERE ID = "+id,
		"DELETE FROM sk_comments WHERE comment_ID = 1",
		fmt.Sprintf(insertPost, 9001, "other", "Storm", "storm", "https://x/?page_id=9001"),
		"INSERT INTO sk_options (option_name, option_value) VALUES ('_transient_x', '1')")
	want := []string{
		"post:" + id + " page " + fmt.Sprintf("%q", title) + " copy changed live changed: berths post_content post_status",
		`post:9001@copy page "Fog" copy made live : `,
		`post:9001@live page "Storm" copy  live made: `,
		`setting:blogdescription setting "blogdescription" copy changed live : option_value`,
	}
	got := lines(drifted(t, w, s))
	assert.Subset(t, got, want, strings.Join(got, "\n"))
	comment := slices.IndexFunc(got, func(l string) bool { return strings.HasPrefix(l, "comment:1 ") })
	require.GreaterOrEqual(t, comment, 0)
	assert.Contains(t, got[comment], "copy  live gone")
	assert.Len(t, got, 5, strings.Join(got, "\n"))
}

// marked compares both sides, and gives the tables that are known to be as they were on one as long as nobody writes.
// looked looks for drift, and gives the marks of a side's tables that are left for the next look, by table.
func looked(t *testing.T, w *realtest.World, s site.Site, side string) (got []string, marks map[string]baseline.Mark) {
	t.Helper()
	got = lines(drifted(t, w, s))
	b, err := baseline.Open(filepath.Join(w.Base, "copies", s.Name, "now", "baseline.db"))
	require.NoError(t, err)
	defer b.Close()
	marks, err = b.Seen(context.Background(), side)
	require.NoError(t, err)
	maps.DeleteFunc(marks, func(_ string, m baseline.Mark) bool { return m.Quiet == "" })
	return got, marks
}

// A table to which nobody wrote since it was looked at is not read again, and the same is told of it; one whose common
// state is noted anew is.
func TestTablesThatAreStillAreToldFromOthers(t *testing.T) {
	w, live, s := pair(t)
	id := somePage(t, live)
	on(t, s, "UPDATE sk_posts SET post_title = 'Winter' WHERE ID = "+id, "DELETE FROM sk_terms WHERE term_id = 2",
		fmt.Sprintf(insertPost, 9001, "x", "Fog", "fog", "y"))
	on(t, live, "DELETE FROM sk_terms WHERE term_id = 2", "DELETE FROM sk_posts WHERE post_name = 'hello-world'")
	var first []string
	require.Eventually(t, func() bool { // until the servers say of all tables when they were written to
		var marks, others map[string]baseline.Mark
		first, marks = looked(t, w, s, "copy")
		_, others = looked(t, w, s, "live")
		return len(marks["sk_posts"].Changes) == 2 && len(marks["sk_terms"].Changes) == 1 &&
			len(others["sk_posts"].Changes) == 1 && len(others["sk_terms"].Changes) == 1
	}, time.Minute, 500*time.Millisecond)
	again, _ := looked(t, w, s, "copy")
	assert.Equal(t, first, again, "what was seen is told again")
	require.Len(t, first, 3, "what is gone from both is told of neither")
	on(t, s, "DELETE FROM sk_posts WHERE ID = 9001")
	on(t, live, "INSERT INTO sk_terms (term_id, name, slug) VALUES (2, 'Tide', 'tide')")
	again, _ = looked(t, w, s, "copy")
	assert.Len(t, again, 3, again)
	on(t, live, "DELETE FROM sk_terms WHERE term_id = 2")
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	name := "post:" + id
	_, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{name}})
	for range 2 {
		assert.Empty(t, lines(drifted(t, w, s)))
		time.Sleep(2500 * time.Millisecond) // what was written to just now is read
	}
	undone(t, w, r.ID)
	got := lines(drifted(t, w, s))
	require.Len(t, got, 1, "the copy's table is still, and what it is compared with is not")
	assert.Contains(t, got[0], name+` page "Winter" copy changed live`)
	on(t, s, "UPDATE sk_terms SET name = 'Fog' WHERE term_id = 1")
	assert.Len(t, lines(drifted(t, w, s)), 2)
}
