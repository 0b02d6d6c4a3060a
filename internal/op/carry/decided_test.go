package carry_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Two pages that were given one short name on the two sides are reached by two addresses afterwards.
func TestTwoPagesOfOneShortNameGetTwo(t *testing.T) {
	w, live, s := pair(t)
	at := strings.TrimSuffix(s.Address().String(), "/")
	on(t, live, fmt.Sprintf(insertPost, 9001, "theirs", "Fog of live", "fog", "x"))
	on(t, s, fmt.Sprintf(insertPost, 9005, "ours", "Fog of the copy", "fog", "y"),
		fmt.Sprintf(insertPost, 9006, "See "+at+"/fog/ for more", "Weather", "weather", "z"),
		fmt.Sprintf(insertPost, 9007, "a draft", "Fog some day", "fog", "z"),
		"UPDATE sk_posts SET post_status = 'draft' WHERE ID = 9007")
	old := filepath.Join(w.Base, "sync", "old.json")
	require.NoError(t, os.MkdirAll(filepath.Dir(old), 0o700))
	require.NoError(t, os.WriteFile(old, []byte("{}"), 0o600))
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().AddDate(0, -4, 0)))
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.NoFileExists(t, old, "what is too old to be undone is cleared away")
	assert.Contains(t, fmt.Sprint(p.Findings),
		`both sides gave the short name "fog": what the copy gave it to gets "fog-2"`)
	assert.Contains(t, r.Result, "look there: post:9006 has an address with /fog/, which is /fog-2/ now")
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "fog theirs,fog-2 ours,fog a draft", get(t, side, "SELECT GROUP_CONCAT(CONCAT(post_name, ' ', "+
			"post_content) ORDER BY ID) FROM sk_posts WHERE post_name LIKE 'fog%'"))
	}
	assert.Empty(t, lines(drifted(t, w, s)))
}

// Where both sides changed one place, people write what is to stand, and both sides get it.
func TestAConflictIsDecidedByHand(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	id := somePage(t, live)
	name := "post:" + id
	_, err := w.Desk.Copies.Conflicts(ctx, s.ID, "", name)
	require.ErrorContains(t, err, "does not differ")
	at := strings.TrimSuffix(s.Address().String(), "/")
	on(t, s, "UPDATE sk_posts SET post_title = 'mine', post_excerpt = 'x', post_content = 'See "+at+"/fog' WHERE ID = "+id)
	on(t, live, "UPDATE sk_posts SET post_title = 'theirs', menu_order = 7, post_content = 'See nothing' WHERE ID = "+id)
	list, err := w.Desk.Copies.Conflicts(ctx, s.ID, "", name)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "post_content", list[0].Field)
	assert.Contains(t, list[0].Text, "<<<<<<< on the live site\nSee nothing\n||||||| as both had it\n")
	assert.Contains(t, list[0].Text, "=======\nSee "+at+"/fog\n>>>>>>> on the copy\n")
	hand := map[string]string{list[0].Place: "Both: " + at + "/fog\n", list[1].Place: "ours\n"}
	for _, to := range []carry.Side{carry.Live, carry.Copy} {
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: to, Items: []string{name},
			Hand: map[string]map[string]string{name: hand}})
		require.NoError(t, err)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "ours|x|7|Both: "+strings.TrimSuffix(side.Address().String(), "/")+"/fog", get(t, side,
			"SELECT CONCAT_WS('|', post_title, post_excerpt, menu_order, post_content) FROM sk_posts WHERE ID = "+id))
	}
	assert.Empty(t, lines(drifted(t, w, s)))
	on(t, s, "DELETE FROM sk_posts WHERE ID = "+id)
	on(t, live, "UPDATE sk_posts SET post_title = 'again' WHERE ID = "+id)
	_, err = w.Desk.Copies.Conflicts(ctx, s.ID, "", name)
	require.ErrorContains(t, err, "can't be decided by hand")
}

// What was decided is offered again as long as both sides have what it was decided of: for a thing that stays
// different, and for one whose carrying was undone.
func TestADecisionIsOfferedAgain(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"),
		fmt.Sprintf(insertPost, 9002, "text", "Pier", "pier", "g"))
	on(t, live, "UPDATE sk_posts SET post_title = CONCAT(post_title, ' of live') WHERE ID IN (9001, 9002)")
	on(t, s, "UPDATE sk_posts SET post_title = CONCAT(post_title, ' of the copy') WHERE ID IN (9001, 9002)")
	findings := func(w2 carry.Wish) (out string) {
		t.Helper()
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, w2)
		require.NoError(t, err)
		for _, f := range p.Findings {
			out += string(f.Severity) + " " + f.Text + "; " + f.Remedy + "\n"
		}
		return out
	}
	all := carry.Wish{To: carry.Live, All: true}
	assert.Contains(t, findings(all), "post:9001 is not carried: both sides changed it: say which is to stand")
	all.Take = map[string]carry.Side{"post:9001": carry.Copy, "post:9002": carry.Live}
	_, r := carried(t, w, s, all)
	assert.Equal(t, "Quay of the copy,Pier of live",
		get(t, live, "SELECT GROUP_CONCAT(post_title ORDER BY ID) FROM sk_posts WHERE ID IN (9001, 9002)"))
	undone(t, w, r.ID)
	decided := map[string]string{}
	for _, it := range drifted(t, w, s) {
		decided[it.Name] = it.Decided
	}
	assert.Equal(t, map[string]string{"post:9001": "copy", "post:9002": "live"}, decided)
	all.Take = nil
	text := findings(all)
	assert.Contains(t, text, "post:9001: the copy's is to stand, as was decided on")
	assert.Contains(t, text, "post:9002 is not carried: the live site's is to stand; alibi sync winter post:9002 --to "+
		"copy makes both the same")
	carried(t, w, s, all)
	carried(t, w, s, carry.Wish{To: carry.Copy, Items: []string{"post:9002"}})
	assert.Empty(t, lines(drifted(t, w, s)))

	on(t, live, "UPDATE sk_posts SET post_title = 'a' WHERE ID = 9001")
	on(t, s, "UPDATE sk_posts SET post_title = 'b' WHERE ID = 9001")
	assert.Empty(t, drifted(t, w, s)[0].Decided, "it is another conflict")
}

// Comments go with the page that they are on, whatever the other side did with them: none is left on one that is gone.
func TestCommentsGoWithTheirPage(t *testing.T) {
	for _, side := range []carry.Side{carry.Live, carry.Copy} {
		t.Run("gone on "+string(side), func(t *testing.T) {
			const onPage = "INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_content, " +
				"comment_approved) VALUES (%d, 9001, 'A', 'x', '1')"
			w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"), fmt.Sprintf(onPage, 900),
				fmt.Sprintf(onPage, 901))
			goes, stays := live, s
			to := carry.Copy
			if side == carry.Copy {
				goes, stays, to = s, live, carry.Live
			}
			on(t, goes, "DELETE FROM sk_posts WHERE ID = 9001", "DELETE FROM sk_comments WHERE comment_post_ID = 9001")
			on(t, stays, "UPDATE sk_posts SET post_status = 'trash' WHERE ID = 9001",
				"UPDATE sk_comments SET comment_approved = 'post-trashed' WHERE comment_ID = 900", fmt.Sprintf(onPage, 902))
			p, r := carried(t, w, s, carry.Wish{To: to, Items: []string{"post:9001"},
				Take: map[string]carry.Side{"post:9001": side}})
			assert.Equal(t, `page "Quay" (post:9001) goes, and 3 comments of it`, p.Goes[0].What)
			assert.Equal(t, "0", get(t, stays, "SELECT CONCAT(COUNT(*)) FROM sk_comments WHERE comment_post_ID = 9001"))
			assert.Empty(t, lines(drifted(t, w, s)))
			undone(t, w, r.ID)
			assert.Equal(t, "3", get(t, stays, "SELECT CONCAT(COUNT(*)) FROM sk_comments WHERE comment_post_ID = 9001"))
			all := carry.Wish{To: to, All: true, Take: map[string]carry.Side{"post:9001": side, "comment:900": side}}
			carried(t, w, s, all)
			assert.Empty(t, lines(drifted(t, w, s)))
		})
	}
}

// A page that both sides changed keeps its short name, also where what is told of it is what an earlier look found.
func TestAPageThatWasSeenBeforeKeepsItsShortName(t *testing.T) {
	w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"))
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'of live' WHERE ID = 9001")
	on(t, s, "UPDATE sk_posts SET post_title = 'Quay of the copy' WHERE ID = 9001")
	require.Eventually(t, func() bool {
		_, marks := looked(t, w, s, "copy")
		_, others := looked(t, w, s, "live")
		return len(marks["sk_posts"].Changes) == 1 && len(others["sk_posts"].Changes) == 1
	}, time.Minute, 500*time.Millisecond, "both are told from what was seen")
	p, err := bothWays(w, s, nil)
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprint(p.Findings), "short name")
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "quay Quay of the copy of live", get(t, side,
			"SELECT CONCAT_WS(' ', post_name, post_title, post_excerpt) FROM sk_posts WHERE ID = 9001"))
	}
}
