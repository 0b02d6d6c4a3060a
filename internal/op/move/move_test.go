package move_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/dns/dnstest"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

const shop = "tickets.skerryline.example"

// zone has a home change names at a real name server.
func zone(t *testing.T, home string, k dnstest.Knot) {
	t.Helper()
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(dnstest.Secret+"\n"), 0o600))
	c, err := desk.LoadConfig(home)
	require.NoError(t, err)
	c.Names = []desk.Zone{{Zone: dnstest.Zone, Server: string(k.Server), Key: "alibi", KeyFile: key}}
	require.NoError(t, desk.SaveConfig(home, c))
}

// moving is a move under test.
type moving struct {
	*demotest.World
	t    *testing.T
	name string
}

func (m moving) now() plan.Move {
	m.t.Helper()
	is, err := m.Desk.Moves.Find(context.Background(), m.name)
	require.NoError(m.t, err)
	return is
}

// gate goes through a gate that is done by a run.
func (m moving) gate(leg string) plan.Run {
	m.t.Helper()
	p, err := m.Desk.Moves.Plan(context.Background(), m.now(), leg)
	require.NoError(m.t, err)
	require.False(m.t, p.Blocked(), p.Findings)
	r := m.Run(p)
	require.Equal(m.t, plan.Done, r.State, r.Error)
	m.t.Logf("%s took %s", leg, r.Took(time.Now()))
	return r
}

// value asks the database file of a stand-in machine.
func value(t *testing.T, w *demotest.World, host, root, query string) (v string) {
	t.Helper()
	db, err := sql.Open("sqlite", w.Dir(host, root+"/wp-content/database/.ht.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query).Scan(&v))
	return v
}

func change(t *testing.T, w *demotest.World, host, root, statement string) {
	t.Helper()
	db, err := sql.Open("sqlite", w.Dir(host, root+"/wp-content/database/.ht.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(statement)
	require.NoError(t, err)
}

func TestASiteIsMovedAndComesBackAndGoesAgain(t *testing.T) {
	w := demotest.New(t)
	k := dnstest.Start(t, "192.0.2.10", true)
	zone(t, w.Base, k)
	require.NoError(t, w.Desk.Close())
	var later atomic.Int64
	w.Open(func(o *desk.Options) {
		o.Now = func() time.Time { return time.Now().Add(time.Duration(later.Load())) }
	})
	w.Keep()
	ctx := t.Context()
	s := w.Site(shop)
	const from, to = "/srv/tickets/public", "/var/www/tickets"
	begun, err := w.Desk.Moves.Begin(ctx, desk.NewMove{Site: s.ID, Host: "drydock", Root: to, Web: []string{"127.0.0.77"}})
	require.NoError(t, err)
	m := moving{w, t, begun.Name}
	assert.Equal(t, "tickets-to-drydock", begun.Name)
	require.False(t, begun.Survey.Blocked(), begun.Survey.Findings)
	posts := "SELECT COUNT(*) FROM sk_posts"

	_, err = w.Desk.Moves.Plan(ctx, begun, plan.LegSwitch)
	assert.ErrorIs(t, err, desk.ErrShut)
	m.gate(plan.LegCarry)
	assert.Equal(t, value(t, w, "pier", from, posts), value(t, w, "drydock", to, posts))
	change(t, w, "pier", from, "UPDATE sk_options SET option_value = 'Mind the step' "+
		"WHERE option_name = 'blogdescription'")
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	require.True(t, m.now().Check.Holds, m.now().Check.Findings)
	_, err = w.Desk.Moves.Lower(ctx, m.name, "")
	assert.ErrorIs(t, err, desk.ErrNotTyped)
	_, err = w.Desk.Moves.Lower(ctx, m.name, s.Name)
	require.NoError(t, err)
	_, err = w.Desk.Moves.Plan(ctx, m.now(), plan.LegSwitch)
	assert.ErrorIs(t, err, desk.ErrShut, "others keep the former answer still")
	later.Store(int64(11 * time.Minute))

	// Somebody orders just before the switch.
	order := func(host, root, text string) {
		change(t, w, host, root, "INSERT INTO sk_comments (comment_post_ID, comment_content) VALUES (1, '"+text+"')")
	}
	orders := "SELECT group_concat(comment_content, ' ') FROM sk_comments WHERE comment_content LIKE 'order%'"
	order("pier", from, "order-1")
	m.gate(plan.LegSwitch)
	moved := m.now()
	require.True(t, moved.Moved)
	assert.Equal(t, "drydock", w.Site(shop).Host)
	assert.Equal(t, to, w.Site(shop).Root)
	assert.Equal(t, "order-1", value(t, w, "drydock", to, orders))
	assert.FileExists(t, w.Dir("pier", from+"/.maintenance"), "who still comes there can't write")
	assert.NoFileExists(t, w.Dir("drydock", to+"/.maintenance"))
	web, err := k.Server.Web(ctx, shop)
	require.NoError(t, err)
	require.Len(t, web, 1)
	assert.Equal(t, shop+" 60 A 127.0.0.77", web[0].String())

	watched, err := w.Desk.Moves.Watch(ctx, m.name)
	require.NoError(t, err)
	assert.False(t, watched.Watch.Done, "the lifetime of the former answer is not over")
	later.Add(int64(2 * time.Minute))
	watched, err = w.Desk.Moves.Watch(ctx, m.name)
	require.NoError(t, err)
	assert.True(t, watched.Watch.Done, watched.Watch)

	// Back, with what was ordered there; and again.
	order("drydock", to, "order-2")
	m.gate(plan.LegBack)
	assert.Equal(t, "pier", w.Site(shop).Host)
	assert.Equal(t, "order-1 order-2", value(t, w, "pier", from, orders))
	assert.NoFileExists(t, w.Dir("pier", from+"/.maintenance"))
	assert.FileExists(t, w.Dir("drydock", to+"/.maintenance"))
	web, err = k.Server.Web(ctx, shop)
	require.NoError(t, err)
	require.Len(t, web, 2, "the other address of the old host is there again")
	order("pier", from, "order-3")
	m.gate(plan.LegSwitch)
	assert.Equal(t, "order-1 order-2 order-3", value(t, w, "drydock", to, orders))
	later.Add(int64(2 * time.Minute))
	_, err = w.Desk.Moves.Watch(ctx, m.name)
	require.NoError(t, err)

	m.gate(plan.LegClear)
	left, err := os.ReadDir(w.Dir("pier", from))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Equal(t, "order-1 order-2 order-3", value(t, w, "drydock", to, orders))
	web, err = k.Server.Web(ctx, shop)
	require.NoError(t, err)
	assert.Equal(t, shop+" 600 A 127.0.0.77", web[0].String(), "it has the lifetime that it had before")
	require.NoError(t, w.Desk.Moves.Forget(ctx, m.name))
	over, err := w.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	assert.Empty(t, over)
}
