package move_test

import (
	"bytes"
	"fmt"
	"os"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/work"
)

// checked goes through the gates up to the switch.
func (m moving) checked() {
	m.t.Helper()
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	require.True(m.t, m.now().Check.Holds, m.now().Check.Findings)
	_, err := m.Desk.Moves.Lower(m.t.Context(), m.name, shop)
	require.NoError(m.t, err)
	m.overdue()
}

func TestADestinationThatFillsUp(t *testing.T) {
	m := begunMove(t)
	m.Keep()
	dir := m.Dir("drydock", there)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	mount := func(size string) {
		require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size),
			"this test needs to mount a small file system, as root")
	}
	mount("100k")
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	fails := func(leg string) {
		t.Helper()
		p, err := m.Desk.Moves.Plan(t.Context(), m.now(), leg)
		require.NoError(t, err)
		r := m.Run(p)
		assert.Equal(t, plan.Cancelled, r.State)
		assert.Regexp(t, "no space left on device|disk is full", r.Error)
	}
	fails(plan.LegCarry)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "what had come is gone again")
	m.stands("pier", here, 0)
	require.NoError(t, syscall.Unmount(dir, 0))
	mount("12m")
	m.checked()

	// In the last pass it fills up: visitors are let in again where they were.
	plans := m.Dir("pier", here+"/wp-content/uploads/plans.bin")
	require.NoError(t, os.WriteFile(plans, bytes.Repeat([]byte("plan"), 3<<20), 0o644))
	change(t, m.World, "pier", here, "INSERT INTO sk_comments (comment_post_ID, comment_content) VALUES (1, 'order')")
	fails(plan.LegSwitch)
	m.stands("pier", here, 1)
	assert.NoFileExists(t, m.Dir("drydock", there+"/wp-content/uploads/plans.bin"))
	require.NoError(t, os.Truncate(plans, 100))
	m.gate(plan.LegSwitch)
	m.stands("drydock", there, 1)
	m.gate(plan.LegBack)
	m.stands("pier", here, 1)
}

// cutter breaks the lines to both hosts at a moment, once.
type cutter struct {
	mu sync.Mutex
	at string
	w  *demotest.World
}

func (c *cutter) observe(o *desk.Options) {
	o.Observe = func(m work.Moment) {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.at == m.Step+" "+m.Phase {
			c.at = ""
			c.w.Cut("pier")
			c.w.Cut("drydock")
		}
	}
}

// during goes through a gate with the lines cut at a moment, when somebody has just ordered and put a file there.
func (c *cutter) during(m moving, leg, at string, orders int) {
	m.t.Helper()
	s := m.Site(shop)
	change(m.t, m.World, s.Host, s.Root, "INSERT INTO sk_comments (comment_post_ID, comment_content) VALUES (1, 'order')")
	require.NoError(m.t, os.WriteFile(m.Dir(s.Host, s.Root+"/wp-content/uploads/plan.txt"),
		bytes.Repeat([]byte("x"), 70000+orders), 0o644))
	c.mu.Lock()
	c.at = at
	c.mu.Unlock()
	m.gate(leg)
	c.mu.Lock()
	defer c.mu.Unlock()
	assert.Empty(m.t, c.at, "it came to that moment")
	m.t.Log("cut at", at)
}

func TestLinesThatAreCut(t *testing.T) {
	c := &cutter{}
	m := begunMove(t, c.observe)
	c.w = m.World
	m.Keep()
	orders := 0
	for _, at := range []string{"stage progress", "tables progress", "files begin", "settle begin"} {
		orders++
		c.during(m, plan.LegCarry, at, orders)
		m.stands("pier", here, orders)
		assert.Equal(t, fmt.Sprint(orders), value(t, m.World, "drydock", there, "SELECT COUNT(*) FROM sk_comments WHERE "+
			"comment_content = 'order'"))
	}
	m.checked()
	for i, at := range []string{"hold begin", "stage progress", "tables begin", "prove begin", "names begin", "swap begin",
		"serve begin", "serve end"} {
		leg, host, root := plan.LegSwitch, "drydock", there
		if i%2 == 1 {
			leg, host, root = plan.LegBack, "pier", here
		}
		orders++
		c.during(m, leg, at, orders)
		m.stands(host, root, orders)
	}
}
