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

	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// bothWays plans to carry all that changed on either side to the other one, by one run.
func bothWays(w *realtest.World, s site.Site, take map[string]carry.Side) (plan.Plan, error) {
	wish := carry.Wish{All: true, Take: take}
	return w.Desk.Copies.PlanSync(context.Background(), s.ID, wish, wish)
}

// apartPair is a pair of which both sides have things under one number, changed one page in different places and two in
// the same, and have a file that the other has not.
func apartPair(t *testing.T) (w *realtest.World, live, s site.Site, take map[string]carry.Side) {
	t.Helper()
	var pages []string
	for id := 9002; id < 9006; id++ {
		pages = append(pages, fmt.Sprintf(insertPost, id, "text", fmt.Sprint("Page ", id), fmt.Sprint("page-", id), "g"))
	}
	w, live, s = pair(t, pages...)
	for _, side := range []site.Site{live, s} {
		name := string(side.Role)
		on(t, side, fmt.Sprintf(insertPost, 9101, "see 9101", "New of "+name, "new-"+name, "x"),
			"UPDATE sk_posts SET post_title = 'Decided by "+name+"' WHERE ID IN (9002, 9003)",
			"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (9101, '_thumbnail_id', '9101')")
		file := filepath.Join(side.Root, "wp-content", "uploads", "of-"+name+".txt")
		require.NoError(t, os.WriteFile(file, []byte(name), 0o644))
	}
	on(t, s, "INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (9002, 'berths', '4')")
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'of live' WHERE ID = 9004", "DELETE FROM sk_posts WHERE ID = 9005")
	on(t, s, "UPDATE sk_posts SET post_title = 'Of the copy' WHERE ID = 9004")
	return w, live, s, map[string]carry.Side{"post:9002": carry.Live, "post:9003": carry.Copy}
}

const chosenPages = "SELECT GROUP_CONCAT(CONCAT_WS('|', p.ID, post_title, post_excerpt, meta_value) ORDER BY p.ID) " +
	"FROM sk_posts p LEFT JOIN sk_postmeta m ON post_id = p.ID WHERE p.ID > 9000"

// One run carries home and then to the copy what it has not: both sides are the same then, also where both had changed
// one page; and undoing it gives either side back what it had.
func TestBothWaysByOneRun(t *testing.T) {
	w, live, s, take := apartPair(t)
	was := [2]string{get(t, live, chosenPages), get(t, s, chosenPages)}
	before := lines(drifted(t, w, s))
	p, err := bothWays(w, s, take)
	require.NoError(t, err)
	require.False(t, p.Blocked(), "%v", p.Findings)
	assert.Equal(t, live.Name, p.Confirm, "its name is typed")
	var goes, said string
	for _, part := range p.Goes {
		goes += part.What + "\n"
	}
	for _, f := range p.Findings {
		said += f.Text + "; " + f.Remedy + "\n"
	}
	home, there, both := strings.Cut(goes, "to winter:\n")
	assert.True(t, both)
	assert.Contains(t, there, `  page "Decided by copy" (post:9002) is changed: berths, post_title`)
	assert.Contains(t, home, "to "+live.Name+":\n")
	assert.Contains(t, home, `  page "Decided by copy" (post:9003) is changed: post_title`)
	assert.NotContains(t, said, "is not carried")
	assert.NotContains(t, said, "--to both")
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "carried from winter; ")
	assert.Contains(t, r.Result, "carried from "+live.Name+"; ")
	assert.NotContains(t, r.Result, "left")
	assert.Empty(t, lines(drifted(t, w, s)))
	assert.Equal(t, "9002|Decided by live||4,9003|Decided by copy|,9004|Of the copy|of live,9101|New of live||9101,"+
		"9102|New of copy||9102", get(t, live, chosenPages))
	assert.Equal(t, get(t, live, chosenPages), get(t, s, chosenPages))
	for _, side := range []site.Site{live, s} {
		for _, name := range []string{"live", "copy"} {
			assert.FileExists(t, filepath.Join(side.Root, "wp-content", "uploads", "of-"+name+".txt"))
		}
	}
	p, err = bothWays(w, s, nil)
	require.NoError(t, err)
	assert.True(t, p.Idle(), "there is nothing to be done twice")

	undone(t, w, r.ID)
	assert.Equal(t, was[0], get(t, live, chosenPages))
	assert.NoFileExists(t, filepath.Join(live.Root, "wp-content", "uploads", "of-copy.txt"))
	assert.NoFileExists(t, filepath.Join(s.Root, "wp-content", "uploads", "of-live.txt"))
	got := drifted(t, w, s)
	assert.Len(t, got, len(before), "%v\n%v", lines(got), before)
	_, err = w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{Items: []string{"post:1", "x"}},
		carry.Wish{Items: []string{"post:1", "x"}})
	assert.ErrorContains(t, err, "post:1 does not differ")
}

// A run that carries both ways and is killed at any moment goes on, or nothing of it is left on either side.
func TestBothWaysKilledAtEachMoment(t *testing.T) {
	w, live, s, take := apartPair(t)
	w.Stop()
	is := func() string {
		return get(t, live, chosenPages) + get(t, s, "SELECT GROUP_CONCAT(CONCAT_WS('|', post_title, post_excerpt) "+
			"ORDER BY post_title) FROM sk_posts WHERE ID > 9000")
	}
	for _, m := range []string{"settle end", "look.then end", "files.then end", "apply.then end"} {
		t.Run(m, func(t *testing.T) {
			killedAndCancelled(t, w, func() (plan.Plan, error) { return bothWays(w, s, take) }, m, is, func(r plan.Run) {
				assert.Equal(t, get(t, live, chosenPages), get(t, s, chosenPages))
				assert.Empty(t, lines(drifted(t, w, s)))
			})
		})
	}
}
