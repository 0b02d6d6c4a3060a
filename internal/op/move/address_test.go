package move_test

import (
	"context"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
)

// A site gets another address at its new place, as for a while, and its former one when it comes back.
func TestASiteGetsAnotherAddress(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	old := f.live.Site.Address()
	to := strings.Replace(old.String(), "//tickets.", "//berth.", 1)
	require.NotEqual(t, old.String(), to)
	m, err := f.Desk.Moves.Begin(ctx, desk.NewMove{Site: f.live.Site.ID, Host: "drydock", Root: f.root,
		Web: []string{"127.0.0.2"}, Address: to})
	require.NoError(t, err)
	require.False(t, m.Survey.Blocked(), m.Survey.Findings)
	f.name = m.Name
	f.gate(plan.LegCarry)
	f.serveThere()
	f.gate(plan.LegCheck)
	check := f.now().Check
	require.True(t, check.Holds, check.Findings)
	require.Greater(t, len(check.Pages), 1)
	for _, p := range check.Pages {
		assert.Equal(t, http.StatusOK, p.New, p.Path)
	}
	f.gate(plan.LegSwitch)
	s := f.Site(f.live.Site.Name)
	assert.Equal(t, to, s.Address().String())
	dock := f.dock.Admin().Open(s.Database.Name, tables.Prefix{})
	text := func(db tables.Database, table string) string {
		snap, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer snap.Close()
		all := ""
		require.NoError(t, snap.Read(ctx, table, tables.Range{}, func(r tables.Row) error {
			for _, v := range r.Values {
				all += v.String() + "\n"
			}
			return nil
		}))
		return all
	}
	posts := text(dock, "sk_posts")
	assert.NotContains(t, posts, "//"+old.Host)
	assert.Contains(t, posts, "//berth.")
	var kept []string
	for _, x := range check.Findings {
		kept = append(kept, x.Text)
	}
	assert.Contains(t, strings.Join(kept, "\n"), "sk_options, row 131, option_value: it looks serialized and is broken")

	// Who comes by the former address is sent on, with what was asked for.
	_, port, err := net.SplitHostPort(strings.TrimPrefix(f.live.Spec.URL, "http://"))
	require.NoError(t, err)
	at := func(ip, url string) (int, string) {
		t.Helper()
		c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
			DialContext: func(ctx context.Context, n, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, n, net.JoinHostPort(ip, port))
			}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		resp, err := c.Get(url)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode, resp.Header.Get("Location")
	}
	code, where := at("127.0.0.1", old.String()+"/?order=sent-on")
	assert.Equal(t, http.StatusTemporaryRedirect, code)
	assert.Equal(t, to+"/?order=sent-on", where)
	code, _ = at("127.0.0.2", where)
	assert.Equal(t, http.StatusOK, code)

	f.gate(plan.LegBack)
	assert.Equal(t, old, f.Site(f.live.Site.Name).Address())
	assert.Contains(t, text(mariadbtest.DB(f.from), "sk_comments"), "order sent-on")
	assert.NotContains(t, text(mariadbtest.DB(f.from), "sk_posts"), "//berth.")
	code, where = at("127.0.0.2", to+"/?p=1")
	assert.Equal(t, http.StatusTemporaryRedirect, code)
	assert.Equal(t, old.String()+"/?p=1", where)
	code, _ = at("127.0.0.1", old.String()+"/")
	assert.Equal(t, http.StatusOK, code)
}

func TestASiteGoesToAnotherFolderOfItsAddress(t *testing.T) {
	m := begunMove(t)
	ctx := t.Context()
	require.NoError(t, m.Desk.Moves.Forget(ctx, m.name))
	const to = "/srv/shop/public"
	begin := func(address string) (plan.Move, error) {
		return m.Desk.Moves.Begin(ctx, desk.NewMove{Site: m.Site(shop).ID, Host: "pier", Root: to, Address: address})
	}
	_, err := begin("ftp://" + shop)
	assert.ErrorContains(t, err, "no site address")
	_, err = begin(m.Site("crew.skerryline.example").Address().String())
	assert.ErrorContains(t, err, "answers at")
	is, err := begin("https://" + shop + "/shop")
	require.NoError(t, err)
	require.False(t, is.Survey.Blocked(), is.Survey.Findings)
	assert.Nil(t, is.Names)
	m.name = is.Name
	m.Keep()
	m.gate(plan.LegCarry)
	home := "SELECT option_value FROM sk_options WHERE option_name = 'home'"
	assert.Equal(t, "https://"+shop+"/shop", value(t, m.World, "pier", to, home))
	assert.Equal(t, "https://"+shop, value(t, m.World, "pier", here, home))
	m.gate(plan.LegCheck)
	m.gate(plan.LegSwitch)
	assert.Equal(t, "/shop", m.Site(shop).Address().Path)
	assert.FileExists(t, m.Dir("pier", here+"/.maintenance"))
	point, err := m.Desk.Points.FindPoint(ctx, shop)
	if err == nil {
		back, err := m.Desk.Points.PlanRestore(ctx, point, reset.Choices{Database: true})
		require.NoError(t, err)
		assert.True(t, back.Blocked())
	}
	m.gate(plan.LegBack)
	assert.Equal(t, "", m.Site(shop).Address().Path)
	assert.Equal(t, "https://"+shop, value(t, m.World, "pier", here, home))
}
