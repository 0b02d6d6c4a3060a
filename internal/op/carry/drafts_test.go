package carry_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

const drafts = "SELECT GROUP_CONCAT(CONCAT_WS('|', post_title, post_status, post_excerpt, m.meta_value) ORDER BY " +
	"p.ID) FROM sk_posts p LEFT JOIN sk_postmeta m ON post_id = p.ID AND meta_key = 'berths' WHERE p.ID = 9001 OR " +
	"post_title LIKE 'Quay%'"

// Of a page that both sides changed in one place both versions stay: the live site's stands, and the copy's is a draft
// beside it, with its fields, on the side that is written to and on the copy.
func TestBothVersionsOfAPageAreKept(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "https://x/?page_id=9001"),
		"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (9001, 'berths', '4')")
	on(t, live, "UPDATE sk_posts SET post_title = 'Quay of live' WHERE ID = 9001")
	on(t, s, "UPDATE sk_posts SET post_title = 'Quay of the copy', post_excerpt = 'words' WHERE ID = 9001")
	before := [2]string{get(t, live, drafts), get(t, s, drafts)}
	assert.True(t, drifted(t, w, s)[0].KeepsBoth)
	take := map[string]carry.Side{"post:9001": carry.Both}
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"post:9001"}, Take: take})
	require.Len(t, p.Goes, 1)
	assert.Equal(t, `page "Quay of the copy" (post:9001) of the copy is kept as a draft beside it`, p.Goes[0].What)
	assert.Equal(t, "Quay of live|publish||4,Quay of the copy (winter)|draft|words|4", get(t, live, drafts))
	assert.Equal(t, "Quay of the copy|publish|words|4,Quay of the copy (winter)|draft|words|4", get(t, s, drafts))
	got := drifted(t, w, s)
	require.Len(t, got, 1, "the draft is on both sides")
	assert.Equal(t, "live", got[0].Decided, "the live site's version stands, and no second draft is made")
	undone(t, w, r.ID)
	assert.Equal(t, before[0], get(t, live, drafts))
	on(t, s, "DELETE FROM sk_posts WHERE post_title LIKE '%(winter)'", "DELETE FROM sk_postmeta WHERE post_id > 9001")

	p, err := bothWays(w, s, take)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "Quay of live|publish||4,Quay of the copy (winter)|draft|words|4", get(t, side, drafts))
	}
	assert.Empty(t, lines(drifted(t, w, s)))
	draft := get(t, s, "SELECT CONCAT(guid, ' ', ID) FROM sk_posts WHERE post_title LIKE '%(winter)'")
	guid, id, _ := strings.Cut(draft, " ")
	assert.Contains(t, guid, "page_id="+id)
	assert.Equal(t, "1", get(t, s, "SELECT CONCAT(COUNT(*)) FROM sk_postmeta WHERE meta_key = 'berths' AND post_id = "+id))

	on(t, s, "UPDATE sk_options SET option_value = 'ours' WHERE option_name = 'blogdescription'")
	on(t, live, "UPDATE sk_options SET option_value = 'theirs' WHERE option_name = 'blogdescription'")
	_, err = w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, All: true,
		Take: map[string]carry.Side{"setting:blogdescription": carry.Both}})
	assert.ErrorContains(t, err, "setting:blogdescription can't be kept as a draft")
}

// A run that keeps both versions and is killed at any moment goes on, or leaves no draft.
func TestBothVersionsKilledAtEachMoment(t *testing.T) {
	w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"))
	on(t, live, "UPDATE sk_posts SET post_title = 'Quay of live' WHERE ID = 9001")
	on(t, s, "UPDATE sk_posts SET post_title = 'Quay of the copy' WHERE ID = 9001")
	w.Stop()
	wish := carry.Wish{To: carry.Live, All: true, Take: map[string]carry.Side{"post:9001": carry.Both}}
	for _, m := range []string{"look end", "apply begin", "apply end", "prove end"} {
		t.Run(m, func(t *testing.T) {
			is := func() string {
				on(t, s, "DELETE FROM sk_posts WHERE post_title LIKE '%(winter)' AND post_status = 'trash'")
				return get(t, live, drafts) + get(t, s, drafts)
			}
			killedAndCancelled(t, w, wished(w, s, wish), m, is, func(plan.Run) {
				assert.Contains(t, get(t, live, drafts), "Quay of the copy (winter)|draft")
				on(t, s, "UPDATE sk_posts SET post_status = 'trash' WHERE post_title LIKE '%(winter)'")
			})
		})
	}
}
