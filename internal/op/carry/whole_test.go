package carry_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
)

// Who wants all or nothing gets that: where something waits for a decision, was changed since the plan, or is changed
// at the last moment, nothing is written.
func TestAllIsCarriedOrNothing(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"),
		fmt.Sprintf(insertPost, 9002, "text", "Pier", "pier", "g"), fmt.Sprintf(insertPost, 9003, "text", "Jetty", "jetty",
			"g"))
	const titles = "SELECT GROUP_CONCAT(post_title ORDER BY ID) FROM sk_posts WHERE ID > 9000"
	on(t, s, "UPDATE sk_posts SET post_title = CONCAT(post_title, ' of the copy') WHERE ID IN (9001, 9002)",
		"UPDATE sk_posts SET post_title = 'Jetty 2' WHERE ID = 9003")
	on(t, live, "UPDATE sk_posts SET post_title = 'Jetty 3' WHERE ID = 9003")
	wish := carry.Wish{To: carry.Live, All: true, Whole: true}
	p, err := w.Desk.Copies.PlanSync(ctx, s.ID, wish)
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "one waits for a decision")
	wish = carry.Wish{To: carry.Live, Find: "OF THE COPY", Whole: true}
	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, wish)
	require.NoError(t, err)
	assert.Len(t, p.Goes, 2)
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'x' WHERE ID = 9001")
	r := w.Run(p)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "something can't be carried, so nothing was: post:9001: it was changed since")
	assert.Equal(t, "Quay,Pier,Jetty 3", get(t, live, titles))

	w.Stop()
	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, wish)
	require.NoError(t, err)
	r, err = w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(t, err)
	demotest.KilledAt(t, w.World, "keep end")
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'y' WHERE ID = 9002")
	w.Keep()
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "nothing was: post:9002: it was changed by others meanwhile")
	assert.Equal(t, "Quay,Pier,Jetty 3", get(t, live, titles))

	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, wish)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Equal(t, "Quay of the copy,Pier of the copy,Jetty 3", get(t, live, titles))
}
