package carry_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/evidence"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
)

// A copy whose people are made up: what changes on it comes home with the real ones, nobody made up does, and what
// changes on the live site comes with made-up people.
func TestChangesOfACopyWithMadeUpPeopleComeHome(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Scrub = "on" },
		"UPDATE sk_users SET display_name = 'Runa Tidewell', user_email = 'runa.tidewell@islands.example' WHERE ID = 1",
		fmt.Sprintf(insertPost, 9001, "By Runa Tidewell.\nWrite to quay@skerryline.example.\nAll year.", "Quay", "quay", "g"),
		fmt.Sprintf(insertPost, 9002, "Runa Tidewell says so.", "Pier", "pier", "g2"),
		"INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_author_email, comment_content) "+
			"VALUES (900, 9001, 'Odo Brack', 'odo@islands.example', 'nice')")
	require.True(t, s.Scrubbed)
	assert.Empty(t, lines(drifted(t, w, s)), "making people up is no change")
	made := get(t, s, "SELECT display_name FROM sk_users WHERE ID = 1")
	require.NotContains(t, get(t, s, "SELECT post_content FROM sk_posts WHERE ID = 9001"), "Tidewell")

	on(t, s, "UPDATE sk_posts SET post_content = CONCAT(post_content, '\nAsk "+made+".') WHERE ID = 9001",
		"UPDATE sk_posts SET post_content = REPLACE(post_content, ' says so', ' says no'), post_title = 'The pier' WHERE "+
			"ID = 9002",
		"UPDATE sk_comments SET comment_content = 'very nice' WHERE comment_ID = 900",
		"INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_author_email, comment_content) "+
			"SELECT 950, 9001, display_name, user_email, 'an answer' FROM sk_users WHERE ID = 1",
		"INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_author_email, comment_content) "+
			"VALUES (951, 9001, 'Bradaxon', 'bradaxon.00112233@scrubbed.example', 'by nobody')",
		"UPDATE sk_users SET display_name = 'Somebody Else' WHERE ID = 1")
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'new on live' WHERE ID = 9002")
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	left := ""
	for _, f := range p.Findings {
		if f.Code == "left" {
			left += f.Text + "\n"
		}
	}
	assert.Contains(t, left, "comment:951 is not carried: comment_author: it names somebody who is made up")
	assert.Contains(t, left, "user:1 is not carried: display_name: it is of somebody who is made up on the copy")
	assert.Len(t, p.Goes, 4, "%v", p.Goes)
	of := func(q string) string { return get(t, live, q) }
	assert.Equal(t, "By Runa Tidewell.\nWrite to quay@skerryline.example.\nAll year.\nAsk Runa Tidewell.",
		of("SELECT post_content FROM sk_posts WHERE ID = 9001"))
	assert.Equal(t, "Runa Tidewell says no.|The pier|new on live",
		of("SELECT CONCAT_WS('|', post_content, post_title, post_excerpt) FROM sk_posts WHERE ID = 9002"))
	assert.Equal(t, "Odo Brack|odo@islands.example|very nice",
		of("SELECT CONCAT_WS('|', comment_author, comment_author_email, comment_content) FROM sk_comments WHERE "+
			"comment_ID = 900"))
	assert.Equal(t, "Runa Tidewell|runa.tidewell@islands.example", of("SELECT CONCAT_WS('|', comment_author, "+
		"comment_author_email) FROM sk_comments WHERE comment_content = 'an answer'"))
	assert.Equal(t, "Runa Tidewell", of("SELECT display_name FROM sk_users WHERE ID = 1"))
	assert.NotContains(t, of("SELECT GROUP_CONCAT(comment_author_email) FROM sk_comments"), "scrubbed.example")
	on(t, s, "INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_author_email, "+
		"comment_content) VALUES (960, 9001, 'Tam Orrick', 'tam@skerryline.example', 'typed by Tam Orrick')")
	carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"comment:960"}})
	assert.Equal(t, "Tam Orrick|typed by Tam Orrick", of("SELECT CONCAT_WS('|', comment_author, comment_content) FROM "+
		"sk_comments WHERE comment_ID = 960"))
	rep, err := w.Desk.Copies.Prove(context.Background(), s.ID, false, nil)
	require.NoError(t, err)
	for _, c := range rep.Checks {
		assert.NotEqual(t, evidence.Broken, c.Verdict, "%s: %s %s %v", c.Title, c.Copy, c.Text, c.Where)
	}
	got := strings.Join(lines(drifted(t, w, s)), "\n")
	assert.Contains(t, got, "post:9002", "the copy has not got what live wrote")
	assert.NotContains(t, got, "post:9001")
	undone(t, w, r.ID)
	assert.Equal(t, "Odo Brack|nice", of("SELECT CONCAT_WS('|', comment_author, comment_content) FROM sk_comments WHERE "+
		"comment_ID = 900"))
}

func TestALiveSitesChangesComeWithMadeUpPeople(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Scrub = "on" },
		fmt.Sprintf(insertPost, 9001, "First.\nSecond.\nThird.", "Quay", "quay", "g"))
	on(t, live, "INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_author_email, "+
		"comment_content) VALUES (900, 9001, 'Odo Brack', 'odo@islands.example', 'Odo Brack was here')",
		"UPDATE sk_posts SET post_content = 'First, by Odo Brack.\nSecond.\nThird.' WHERE ID = 9001")
	on(t, s, "UPDATE sk_posts SET post_content = 'First.\nSecond.\nThird, on the copy.' WHERE ID = 9001")
	for _, it := range drifted(t, w, s) {
		for _, v := range it.Versions {
			require.False(t, v.Live != nil && strings.Contains(*v.Live, "Brack"), "%s %v", it.Name, *v.Live)
		}
	}
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	for _, q := range []string{"SELECT CONCAT_WS('|', comment_author, comment_author_email, comment_content) FROM " +
		"sk_comments WHERE comment_ID = 900", "SELECT post_content FROM sk_posts WHERE ID = 9001"} {
		got := get(t, s, q)
		assert.NotContains(t, got, "Brack")
		assert.NotContains(t, got, "odo@")
	}
	assert.Contains(t, get(t, s, "SELECT post_content FROM sk_posts WHERE ID = 9001"), "\nThird, on the copy.")
	carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.Equal(t, "First, by Odo Brack.\nSecond.\nThird, on the copy.",
		get(t, live, "SELECT post_content FROM sk_posts WHERE ID = 9001"))
	assert.Empty(t, lines(drifted(t, w, s)))
}

// A copy whose people were made up after it was made has nothing of how it was: that would be real people.
func TestPeopleThatWereMadeUpLaterAreForgotten(t *testing.T) {
	w, _, s := pair(t)
	ctx := context.Background()
	p, err := w.Desk.Hands.PlanScrub(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	_, err = w.Desk.Copies.Drift(ctx, s.ID)
	assert.ErrorIs(t, err, carry.ErrNoDrift)
	assert.ErrorContains(t, err, "alibi refresh winter")
	p, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	assert.Empty(t, lines(drifted(t, w, s)))
}
