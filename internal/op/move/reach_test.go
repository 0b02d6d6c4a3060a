package move_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/tables"
)

// A site leaves a host that lets in files and nothing else: its database is read through a relay.
func TestASiteLeavesAHostThatGivesFilesOnly(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	l := f.live
	f.world.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	require.NoError(t, f.Desk.Fleet.Forget(ctx, l.Site.ID))
	port := l.Spec.URL[strings.LastIndexByte(l.Spec.URL, ':')+1:]
	s, err := f.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: "moor", Root: l.Spec.Root, Name: shop, Client: "Skerry Line",
		Relay: "http://127.0.0.1:" + port})
	require.NoError(t, err)
	l.Site = s
	f.begin()
	v := f.visitors(2)
	f.gate(plan.LegCarry)
	f.serveThere()
	f.gate(plan.LegCheck)
	require.True(t, f.now().Check.Holds, f.now().Check.Findings)
	_, err = f.Desk.Moves.Lower(ctx, f.name, s.Name)
	require.NoError(t, err)
	f.overdue()
	f.gate(plan.LegSwitch)
	t.Logf("held for %s", f.now().Switches[0].Held)
	now := f.Site(shop)
	assert.Equal(t, "drydock", now.Host)
	assert.Empty(t, now.Relay, "its database is reached at the new place")
	v.end(t, f.dock.Admin().Open(now.Database.Name, tables.Prefix{}))

	p, err := f.Desk.Moves.Plan(ctx, f.now(), plan.LegBack)
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "nothing can be written back through a relay")
	_, err = f.Desk.Workings().Record.ChangeMove(ctx, f.name, func(m *plan.Move) error {
		m.Watch = &plan.Watch{Done: true}
		return nil
	})
	require.NoError(t, err)
	r := f.gate(plan.LegClear)
	assert.Contains(t, r.Result, "are there still: remove them by hand")
	left, err := os.ReadDir(l.Spec.Root)
	require.NoError(t, err)
	assert.Empty(t, left)
}
