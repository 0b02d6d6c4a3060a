package tui

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/work"
)

func TestACopyThatAnswersSaysThatItIsNotProvenYet(t *testing.T) {
	ctx := context.Background()
	looked, compared := make(chan bool), make(chan bool)
	w := demotest.New(t, func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step == "evidence" && m.Phase == "begin" {
				close(compared)
				<-looked
			}
		}
	})
	w.Keep()
	r, err := w.Desk.Runs.Start(ctx, w.Plan("skerryline.example", "soon"))
	require.NoError(t, err)
	<-compared
	p := sitAt(t, w.Desk, 128, 40)
	p.press("/", "soon", "enter")
	p.sees("not proven yet: it is being compared with its origin", "Enter its run", "o address")
	p.press("enter")
	p.until("answers at http://soon.localhost", "not proven yet: what is done on it", "o address", "x cancel")
	p.press("x")
	p.sees("nor what was done on the copy", "since it answers")
	p.press("esc")
	_, err = w.Desk.Copies.Apart(ctx, r.Plan.Target.ID)
	assert.ErrorContains(t, err, "answers and is being compared with its origin: run "+r.ID)
	close(looked)
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	p.press("esc")
	p.until("evidence holds")
	assert.NotContains(t, p.frame(), "not proven yet")
}
