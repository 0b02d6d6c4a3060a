package move_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	standin "alibi/internal/demo/panel"
	"alibi/internal/desk"
	"alibi/internal/panel"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// panels gives both hosts of a home panels of their own; the shop has two names where it stands.
func panels(t *testing.T, home string, old, new *standin.Panel) {
	t.Helper()
	c, err := desk.LoadConfig(home)
	require.NoError(t, err)
	token := c.Panels[0].TokenFile
	c.Panels = nil
	for host, p := range map[string]*standin.Panel{"pier": old, "drydock": new} {
		p.Token = "made up for the demo"
		names := map[string][]string{}
		if host == "pier" {
			names[here] = []string{"www." + shop, shop}
		}
		require.NoError(t, p.Start(names))
		t.Cleanup(p.Close)
		c.Panels = append(c.Panels, desk.HostPanel{Host: host, Address: p.Address, TokenFile: token})
	}
	require.NoError(t, desk.SaveConfig(home, c))
}

// attached gives what a panel has of the shop, as NAME STATE, and * for the primary one.
func attached(t *testing.T, p *standin.Panel, root string) (out []string) {
	t.Helper()
	is, err := panel.Client{Address: p.Address, Token: p.Token}.Names(t.Context(), root)
	require.NoError(t, err)
	for _, a := range is {
		out = append(out, a.Name+" "+string(a.State)+site.Either(a.Primary, " *", ""))
	}
	return out
}

// onPanels has the shop on its way between hosts that have panels.
func onPanels(t *testing.T, old, new *standin.Panel) moving {
	t.Helper()
	m := begunMove(t)
	require.NoError(t, m.Desk.Moves.Forget(t.Context(), m.name))
	require.NoError(t, m.Desk.Close())
	panels(t, m.Base, old, new)
	m.Open()
	m.Keep()
	is, err := m.Desk.Moves.Begin(t.Context(), desk.NewMove{Site: m.Site(shop).ID, Host: "drydock", Root: there,
		Web: []string{"127.0.0.20"}})
	require.NoError(t, err)
	m.name = is.Name
	return m
}

func (m moving) leg(name string) plan.Leg {
	m.t.Helper()
	for _, l := range m.now().Legs(m.Desk.Now()) {
		if l.Name == name {
			return l
		}
	}
	return plan.Leg{}
}

func TestNamesAreAttachedAtTheNewPlaceAndDetachedAtTheOldOne(t *testing.T) {
	old, new := &standin.Panel{}, &standin.Panel{Wait: 300 * time.Millisecond}
	m := onPanels(t, old, new)
	ctx := t.Context()
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	assert.Contains(t, m.leg(plan.LegNames).Why, "on drydock www."+shop+" is not attached")

	_, err := m.Desk.Moves.Lower(ctx, m.name, "")
	assert.ErrorIs(t, err, desk.ErrNotTyped)
	assert.Empty(t, attached(t, new, there))
	is, err := m.Desk.Moves.Lower(ctx, m.name, shop)
	require.NoError(t, err)
	assert.Equal(t, []string{"www." + shop, shop}, is.Panel.Ours)
	m.overdue()
	assert.Contains(t, m.leg(plan.LegNames).Why, "is pending: being set up")
	_, err = m.Desk.Moves.Plan(ctx, m.now(), plan.LegSwitch)
	assert.ErrorIs(t, err, desk.ErrShut, "visitors would see nothing of it there")

	require.Eventually(t, func() bool {
		_, err := m.Desk.Moves.Lower(ctx, m.name, "")
		return err == nil && m.leg(plan.LegNames).State == plan.Passed
	}, 5*time.Second, 50*time.Millisecond, "looking again asks for no name")
	both := []string{"www." + shop + " active *", shop + " active"}
	assert.Equal(t, both, attached(t, new, there), "as they were attached at the old place")

	// somebody takes one away after it was looked at
	require.NoError(t, panel.Client{Address: new.Address, Token: new.Token}.Detach(ctx, there, shop))
	p, err := m.Desk.Moves.Plan(ctx, m.now(), plan.LegSwitch)
	require.NoError(t, err)
	require.True(t, p.Blocked())
	assert.Contains(t, p.Findings[0].Text, "on drydock "+shop+" is not attached")
	require.Eventually(t, func() bool {
		_, err := m.Desk.Moves.Lower(ctx, m.name, "")
		return err == nil && m.leg(plan.LegNames).State == plan.Passed
	}, 5*time.Second, 50*time.Millisecond)
	assert.ElementsMatch(t, both, attached(t, new, there))

	m.gate(plan.LegSwitch)
	m.stands("drydock", there, 0)
	assert.Equal(t, both, attached(t, old, here), "as long as there is a way back")
	_, err = m.Desk.Workings().Record.ChangeMove(ctx, m.name, func(m *plan.Move) error {
		m.Watch = &plan.Watch{Done: true}
		return nil
	})
	require.NoError(t, err)
	m.gate(plan.LegClear)
	assert.Empty(t, attached(t, old, here))
	assert.ElementsMatch(t, both, attached(t, new, there))
}

func TestAMoveThatIsGivenUpDetachesWhatItAttached(t *testing.T) {
	new := &standin.Panel{Refuse: func(name string) string { return site.Either(name == shop, "not ours", "") }}
	m := onPanels(t, &standin.Panel{}, new)
	ctx := t.Context()
	_, err := m.Desk.Moves.Lower(ctx, m.name, shop)
	require.NoError(t, err)
	assert.Contains(t, m.leg(plan.LegNames).Why, shop+" is refused: not ours")
	assert.ErrorContains(t, m.Desk.Moves.Forget(ctx, m.name), "attached on drydock still: remove that first")
	m.gate(plan.LegClear)
	assert.Empty(t, attached(t, new, there))
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
	assert.Equal(t, "pier", m.Site(shop).Host)
	assert.NoDirExists(t, m.Dir("drydock", there))
}

// A site that is to answer at another address has that attached, and can go back to where it answers by its own.
func TestAnotherAddressIsAttached(t *testing.T) {
	old, new := &standin.Panel{}, &standin.Panel{}
	m := onPanels(t, old, new)
	ctx := t.Context()
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
	is, err := m.Desk.Moves.Begin(ctx, desk.NewMove{Site: m.Site(shop).ID, Host: "drydock", Root: there,
		Address: "https://soon.skerryline.example"})
	require.NoError(t, err)
	m.name = is.Name
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	_, err = m.Desk.Moves.Lower(ctx, m.name, shop)
	require.NoError(t, err)
	assert.Equal(t, []string{"soon.skerryline.example active *"}, attached(t, new, there))
	m.gate(plan.LegSwitch)
	assert.Equal(t, "drydock", m.Site(shop).Host)
	m.gate(plan.LegBack)
	m.gate(plan.LegClear)
	assert.Empty(t, attached(t, new, there))
	assert.Len(t, attached(t, old, here), 2)
}

// A name leads to one site of a host only: where both places are on one, the person is told.
func TestBothPlacesOnOneHostWithAPanel(t *testing.T) {
	m := onPanels(t, &standin.Panel{}, &standin.Panel{})
	ctx := t.Context()
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
	is, err := m.Desk.Moves.Begin(ctx, desk.NewMove{Site: m.Site(shop).ID, Host: "pier", Root: "/srv/shop/public"})
	require.NoError(t, err)
	assert.Nil(t, is.Panel)
	i := slices.IndexFunc(is.Survey.Findings, func(f site.Finding) bool { return f.Code == "panel" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, is.Survey.Findings[i].Remedy, "lead to /srv/shop/public in the panel when you switch over")
	require.NoError(t, m.Desk.Moves.Forget(ctx, is.Name))
}

func TestAPanelThatGivesNoAnswer(t *testing.T) {
	old, new := &standin.Panel{}, &standin.Panel{}
	m := onPanels(t, old, new)
	ctx := t.Context()
	new.Close()
	_, err := m.Desk.Moves.Lower(ctx, m.name, shop)
	assert.ErrorIs(t, err, panel.ErrNoAnswer)
	assert.True(t, m.now().Names.Lowered.IsZero(), "nothing was changed")
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
}
