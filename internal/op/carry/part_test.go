package carry_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/site"
)

// A copy of pages only: what was left on the live site is no difference, and what the copy makes under a number of it
// gets another one.
func TestACopyOfSomeContentIsOneSide(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Only = []site.Kind{site.Pages} },
		fmt.Sprintf(insertPost, 9000, "as it was", "Pier", "pier", "g"),
		"INSERT INTO sk_posts (ID, post_author, post_date, post_content, post_title, post_excerpt, post_status, post_name, "+
			"to_ping, pinged, post_content_filtered, post_type) VALUES (9001, 1, NOW(), 'text', 'News', '', 'publish', "+
			"'news', '', '', '', 'post')",
		"INSERT INTO sk_postmeta (meta_id, post_id, meta_key, meta_value) VALUES (9001, 9001, 'mood', 'live')")
	require.Equal(t, "0", get(t, s, "SELECT CONCAT(COUNT(*)) FROM sk_posts WHERE ID = 9001"))
	require.Empty(t, lines(drifted(t, w, s)), "what was left is no difference")

	on(t, live, "UPDATE sk_posts SET post_title = 'Old news' WHERE ID = 9001",
		"UPDATE sk_posts SET post_excerpt = 'from live' WHERE ID = 9000",
		fmt.Sprintf(insertPost, 9010, "made on live", "Storm", "storm", "g10"))
	on(t, s, fmt.Sprintf(insertPost, 9001, "made on the copy", "Fog", "fog", "g2"),
		"INSERT INTO sk_postmeta (meta_id, post_id, meta_key, meta_value) VALUES (9001, 9001, 'mood', 'copy')",
		"UPDATE sk_posts SET post_title = 'The pier' WHERE ID = 9000")
	assert.Equal(t, []string{
		`post:9000 page "The pier" copy changed live changed: post_excerpt post_title`,
		`post:9001 page "Fog" copy made live : mood`,
		`post:9010 page "Storm" copy  live made: `,
	}, lines(drifted(t, w, s)))
	_, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.Equal(t, "Old news|text|live", get(t, live, "SELECT CONCAT_WS('|', post_title, post_content, meta_value) FROM "+
		"sk_posts JOIN sk_postmeta ON post_id = ID WHERE ID = 9001"), "it is another thing, and stays")
	assert.Equal(t, "made on the copy|copy", get(t, live, "SELECT CONCAT_WS('|', post_content, meta_value) FROM sk_posts "+
		"JOIN sk_postmeta ON post_id = ID WHERE post_title = 'Fog'"))
	assert.Equal(t, "The pier|from live",
		get(t, live, "SELECT CONCAT_WS('|', post_title, post_excerpt) FROM sk_posts WHERE ID = 9000"))
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	assert.Empty(t, lines(drifted(t, w, s)))
	assert.Equal(t, "made on live", get(t, s, "SELECT post_content FROM sk_posts WHERE ID = 9010"))

	require.Eventually(t, func() bool {
		_, marks := looked(t, w, s, "live")
		return marks["sk_postmeta"].Quiet != ""
	}, time.Minute, 500*time.Millisecond, "nobody writes to the fields any more")
	on(t, live, "UPDATE sk_posts SET post_type = 'page' WHERE ID = 9001")
	for range 2 {
		assert.Equal(t, []string{`post:9001 page "Old news" copy  live made: mood`}, lines(drifted(t, w, s)),
			"what the copy would have today comes as if it was made")
		time.Sleep(2500 * time.Millisecond) // until the server tells that nobody writes to the posts either
	}
	undone(t, w, r.ID)
	assert.Equal(t, "0", get(t, live, "SELECT CONCAT(COUNT(*)) FROM sk_posts WHERE post_title = 'Fog'"))
}
