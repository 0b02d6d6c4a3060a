package move_test

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

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/dns"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// overdue has it long ago that the names were lowered.
func (m moving) overdue() {
	_, err := m.Desk.Workings().Record.ChangeMove(m.t.Context(), m.name, func(m *plan.Move) error {
		m.Names.Until = time.Now()
		return nil
	})
	require.NoError(m.t, err)
}

// begunMove has the demo's shop on its way, nothing brought yet.
func begunMove(t *testing.T, change ...func(*desk.Options)) moving {
	t.Helper()
	w := demotest.New(t, change...)
	m, err := w.Desk.Moves.Begin(t.Context(), desk.NewMove{Site: w.Site(shop).ID, Host: "drydock", Root: there,
		Web: []string{"127.0.0.20"}})
	require.NoError(t, err)
	return moving{w, t, m.Name}
}

// The places of the shop.
const (
	here  = "/srv/tickets/public"
	there = "/var/www/tickets"
)

// start puts the run of a gate to work without waiting for it.
func (m moving) start(leg string) plan.Run {
	m.t.Helper()
	ctx := context.Background()
	p, err := m.Desk.Moves.Plan(ctx, m.now(), leg)
	require.NoError(m.t, err)
	r, err := m.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(m.t, err)
	return r
}

// stands sees that the site stands where the record says, whole and open, that names lead there, and that nothing else
// of ours is left at either place.
func (m moving) stands(host, root string, orders int) {
	m.t.Helper()
	s := m.Site(shop)
	assert.Equal(m.t, host, s.Host)
	assert.Nil(m.t, s.Front)
	assert.Empty(m.t, s.Run)
	assert.Equal(m.t, fmt.Sprint(orders), value(m.t, m.World, host, root, "SELECT COUNT(*) FROM sk_comments WHERE "+
		"comment_content = 'order'"))
	assert.NoFileExists(m.t, m.Dir(host, root+"/.maintenance"))
	web, err := dns.Server(m.Desk.Config().Names[0].Server).Web(m.t.Context(), shop)
	require.NoError(m.t, err)
	require.Len(m.t, web, 1)
	assert.Equal(m.t, map[string]string{"pier": "192.0.2.10", "drydock": "127.0.0.20"}[host], web[0].Values[0])
	for _, dir := range []string{m.Dir("pier", here), m.Dir("drydock", there)} {
		require.NoError(m.t, filepath.WalkDir(dir, func(name string, _ os.DirEntry, err error) error {
			assert.False(m.t, strings.HasPrefix(filepath.Base(name), ".alibi-"), "%s is left", name)
			return err
		}))
	}
}

func TestKilledAtEachMomentItArrivesAllTheSame(t *testing.T) {
	m := begunMove(t)
	kill := func(leg, moment string) {
		t.Helper()
		r := m.start(leg)
		demotest.KilledAt(t, m.World, moment)
		demotest.Resumed(t, m.World, r.ID)
	}
	for i, at := range []string{"prepare end", "stage progress", "stage end", "tables end", "files begin",
		"files progress", "files end", "settle begin"} {
		change(t, m.World, "pier", here, "INSERT INTO sk_comments (comment_post_ID, comment_content) VALUES (1, 'order')")
		text := strings.Repeat("x", 70000+i)
		require.NoError(t, os.WriteFile(m.Dir("pier", here+"/wp-content/uploads/plan.txt"), []byte(text), 0o644))
		kill(plan.LegCarry, at)
		m.stands("pier", here, i+1)
		assert.Equal(t, fmt.Sprint(i+1), value(t, m.World, "drydock", there, "SELECT COUNT(*) FROM sk_comments WHERE "+
			"comment_content = 'order'"), at)
		b, err := os.ReadFile(m.Dir("drydock", there+"/wp-content/uploads/plan.txt"))
		require.NoError(t, err)
		assert.Equal(t, text, string(b), at)
	}
	m.Keep()
	m.gate(plan.LegCheck)
	_, err := m.Desk.Moves.Lower(t.Context(), m.name, shop)
	require.NoError(t, err)
	m.overdue()
	m.Stop()
	orders := 8
	for i, at := range []string{"prepare end", "hold begin", "hold end", "stage end", "tables end", "files end",
		"prove begin", "prove end", "names begin", "names end", "swap begin", "swap end", "serve begin"} {
		leg, from, to := plan.LegSwitch, []string{"pier", here}, []string{"drydock", there}
		if i%2 == 1 {
			leg, from, to = plan.LegBack, to, from
		}
		change(t, m.World, from[0], from[1], "INSERT INTO sk_comments (comment_post_ID, comment_content) "+
			"VALUES (1, 'order')")
		orders++
		kill(leg, at)
		m.stands(to[0], to[1], orders)
	}
	assert.Len(t, m.now().Switches, 13, "each switch is noted once")
}

func TestWhatAMoveNeedsIsNotTakenFromUnderIt(t *testing.T) {
	m := begunMove(t)
	ctx := t.Context()
	require.NoError(t, os.MkdirAll(m.Dir("drydock", there), 0o755))
	require.NoError(t, os.WriteFile(m.Dir("drydock", there+"/of-others.txt"), []byte("ours"), 0o644))
	_, err := m.Desk.Moves.Plan(ctx, m.now(), plan.LegClear)
	assert.ErrorContains(t, err, "nothing was brought", "what is there is not ours")
	assert.ErrorContains(t, m.Desk.Fleet.Forget(ctx, m.Site(shop).ID), "on its way")
	require.NoError(t, m.Desk.Workings().Record.PutHost(ctx, inventory.Host{Name: "moor", Addr: "127.0.0.1", Port: "1"}))
	_, err = m.Desk.Workings().Record.ChangeSite(ctx, m.now().Place, func(s *site.Site) error {
		s.Host = "moor"
		return nil
	})
	require.NoError(t, err)
	assert.ErrorIs(t, m.Desk.Fleet.RemoveHost(ctx, "moor"), desk.ErrHostInUse)
	_, err = m.Desk.Moves.Begin(ctx, desk.NewMove{Site: m.Site(shop).ID, Host: "drydock", Root: "/elsewhere"})
	assert.ErrorIs(t, err, desk.ErrMoved)
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
	for what, n := range map[string]desk.NewMove{
		"or a part of that":       {Host: "pier", Root: here + "/sub"},
		"is no absolute path":     {Host: "drydock", Root: "relative"},
		"no address of":           {Host: "drydock", Root: "/elsewhere", Web: []string{"drydock.example"}},
		"stands in /var/www/crew": {Host: "drydock", Root: "/var/www/crew"},
		"is not empty":            {Host: "drydock", Root: there},
	} {
		n.Site = m.Site(shop).ID
		_, err := m.Desk.Moves.Begin(ctx, n)
		assert.ErrorContains(t, err, what)
	}
	assert.FileExists(t, m.Dir("drydock", there+"/of-others.txt"))
}

func TestAFirstPassThatIsCancelledLeavesNothing(t *testing.T) {
	for _, at := range []string{"prepare end", "stage progress", "tables end", "settle begin"} {
		var m moving
		var id string
		m = begunMove(t, demotest.Once(at, func() { require.NoError(t, m.Desk.Runs.Cancel(t.Context(), id)) }))
		r := m.start(plan.LegCarry)
		id = r.ID
		m.Keep()
		require.Eventually(t, func() bool {
			is, err := m.Desk.Runs.Run(t.Context(), id)
			return err == nil && is.State == plan.Cancelled
		}, 20*time.Second, 20*time.Millisecond, at)
		left, err := os.ReadDir(m.Dir("drydock", there))
		if !os.IsNotExist(err) {
			require.NoError(t, err)
		}
		assert.Empty(t, left, at)
		m.gate(plan.LegCarry)
		m.stands("pier", here, 0)
	}
}

func TestWhatFailsInASwitchIsTakenBack(t *testing.T) {
	m := begunMove(t)
	m.Keep()
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	_, err := m.Desk.Moves.Lower(t.Context(), m.name, shop)
	require.NoError(t, err)
	m.overdue()
	fails := func(what string) {
		t.Helper()
		p, err := m.Desk.Moves.Plan(t.Context(), m.now(), plan.LegSwitch)
		require.NoError(t, err)
		r := m.Run(p)
		assert.NotEqual(t, plan.Done, r.State)
		assert.Contains(t, r.Error, what)
	}
	// Somebody else changes the records, so that they are not what they were.
	z := m.Desk.Config().Names[0]
	secret, err := os.ReadFile(z.KeyFile)
	require.NoError(t, err)
	u := dns.Updater{Server: dns.Server(z.Server), Key: dns.Key{Name: z.Key, Secret: strings.TrimSpace(string(secret))}}
	web, err := u.Server.Web(t.Context(), shop)
	require.NoError(t, err)
	other := web[0]
	other.Values = []string{"192.0.2.99"}
	require.NoError(t, u.Change(t.Context(), z.Zone, web, append(web[:0:0], other)))
	fails(dns.ErrChanged.Error())
	require.NoError(t, u.Change(t.Context(), z.Zone, nil, web))
	m.stands("pier", here, 0)

	require.NoError(t, os.WriteFile(z.KeyFile, []byte("bm90IHRoZSBrZXk="), 0o600))
	fails(dns.ErrRefused.Error())
	require.NoError(t, os.WriteFile(z.KeyFile, secret, 0o600))
	m.stands("pier", here, 0)
	m.gate(plan.LegSwitch)
	m.stands("drydock", there, 0)
}

func TestNamesThatAreEnteredByHand(t *testing.T) {
	m := begunMove(t)
	z := m.Desk.Config().Names[0]
	secret, err := os.ReadFile(z.KeyFile)
	require.NoError(t, err)
	u := dns.Updater{Server: dns.Server(z.Server), Key: dns.Key{Name: z.Key, Secret: strings.TrimSpace(string(secret))}}
	c, err := desk.LoadConfig(m.Base)
	require.NoError(t, err)
	c.Names[0].Key = ""
	require.NoError(t, desk.SaveConfig(m.Base, c))
	require.NoError(t, m.Desk.Moves.Forget(t.Context(), m.name))
	require.NoError(t, m.Desk.Close())
	m.Open()
	m.Keep()
	begun, err := m.Desk.Moves.Begin(t.Context(), desk.NewMove{Site: m.Site(shop).ID, Host: "drydock", Root: there,
		Web: []string{"127.0.0.20"}})
	require.NoError(t, err)
	require.True(t, begun.Names.ByHand)
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	_, err = m.Desk.Moves.Lower(t.Context(), m.name, shop)
	require.NoError(t, err, "they are short already")
	m.overdue()
	p, err := m.Desk.Moves.Plan(t.Context(), m.now(), plan.LegSwitch)
	require.NoError(t, err)
	r := m.Run(p)
	require.Equal(t, plan.Paused, r.State)
	assert.Contains(t, r.Gate.Ask, "tickets.skerryline.example 20 A 127.0.0.20")
	require.NoError(t, m.Desk.Runs.Cancel(t.Context(), r.ID))
	require.Eventually(t, func() bool {
		is, err := m.Desk.Runs.Run(t.Context(), r.ID)
		return err == nil && is.State == plan.Cancelled
	}, 20*time.Second, 50*time.Millisecond)
	m.stands("pier", here, 0)
	r = m.Run(p)
	require.Equal(t, plan.Paused, r.State)
	was, want := m.now().Names.To(true)
	require.NoError(t, u.Change(t.Context(), z.Zone, was, want))
	_, err = m.Desk.Runs.Resume(t.Context(), r.ID)
	require.NoError(t, err)
	r, err = m.Desk.Runs.Await(t.Context(), r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	m.stands("drydock", there, 0)
}
