package panel_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	standin "alibi/internal/demo/panel"
	"alibi/internal/panel"
	"alibi/internal/site"
)

const (
	root = "/var/www/tickets"
	name = "tickets.skerryline.example"
)

func start(t *testing.T, p *standin.Panel) panel.Client {
	t.Helper()
	p.Token = "word"
	require.NoError(t, p.Start(map[string][]string{"/var/www/crew": {"crew.skerryline.example"}}))
	t.Cleanup(p.Close)
	return panel.Client{Host: "drydock", Address: p.Address, Token: "word"}
}

func TestANameIsAttachedMadePrimaryAndDetached(t *testing.T) {
	ctx := t.Context()
	c := start(t, &standin.Panel{Wait: 200 * time.Millisecond})
	is, err := c.Names(ctx, root)
	require.NoError(t, err)
	assert.Empty(t, is)

	require.NoError(t, c.Attach(ctx, root, name))
	require.NoError(t, c.Attach(ctx, root, "www."+name))
	require.NoError(t, c.Attach(ctx, root, name), "again, as after a broken line")
	assert.ErrorContains(t, c.MakePrimary(ctx, root, "www."+name), "it is pending: only an active name")
	is, err = c.Names(ctx, root)
	require.NoError(t, err)
	require.Len(t, is, 2)
	assert.Equal(t, site.AttachPending, is[0].State)

	require.Eventually(t, func() bool {
		is, err = c.Names(ctx, root)
		return err == nil && is[1].State == site.AttachActive
	}, 5*time.Second, 20*time.Millisecond)
	require.NoError(t, c.MakePrimary(ctx, root, "www."+name))
	is, err = c.Names(ctx, root)
	require.NoError(t, err)
	assert.Equal(t, []site.AttachedName{{Name: name, State: site.AttachActive},
		{Name: "www." + name, State: site.AttachActive, Primary: true}}, is)

	assert.ErrorIs(t, c.Detach(ctx, root, "www."+name), panel.ErrRefused, "the primary one goes last")
	require.NoError(t, c.Detach(ctx, root, name))
	require.NoError(t, c.Detach(ctx, root, name), "it is gone already")
	require.NoError(t, c.Detach(ctx, root, "www."+name))
	is, err = c.Names(ctx, root)
	require.NoError(t, err)
	assert.Empty(t, is)
}

func TestWhatAPanelDoesNotDo(t *testing.T) {
	ctx := t.Context()
	c := start(t, &standin.Panel{Refuse: func(string) string { return "no address of ours" }})
	err := c.Attach(ctx, root, "crew.skerryline.example")
	assert.ErrorIs(t, err, panel.ErrTaken)
	assert.ErrorContains(t, err, "it belongs to /var/www/crew")
	require.NoError(t, c.Attach(ctx, root, name))
	is, err := c.Names(ctx, root)
	require.NoError(t, err)
	assert.Equal(t, []site.AttachedName{{Name: name, State: site.AttachRefused, Why: "no address of ours", Primary: true}},
		is)
	c.Token = "another"
	_, err = c.Names(ctx, root)
	assert.ErrorIs(t, err, panel.ErrRefused)
	assert.NotContains(t, err.Error(), "another", "a token is said nowhere")
	c.Address = "http://127.0.0.1:1"
	_, err = c.Names(ctx, root)
	assert.ErrorIs(t, err, panel.ErrNoAnswer)
}

func TestAPanelThatSaysNonsense(t *testing.T) {
	says, to := "", ""
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if to != "" {
			http.Redirect(w, r, to, http.StatusTemporaryRedirect)
			return
		}
		_, _ = w.Write([]byte(says))
	}))
	defer s.Close()
	asks := panel.Client{Host: "drydock", Address: s.URL, Token: "word"}
	for _, says = range []string{"", "<html>", `{"names":[{"name":"","state":"active"}]}`,
		`{"names":[{"name":"a.example","state":"soon"}]}`} {
		_, err := asks.Names(context.Background(), root)
		assert.ErrorIs(t, err, panel.ErrNoAnswer, says)
	}
	asked := false
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer other.Close()
	to = other.URL
	assert.ErrorIs(t, asks.Attach(context.Background(), root, name), panel.ErrRefused)
	assert.False(t, asked, "the token goes to nobody else")
}

func TestAddressesOfPanels(t *testing.T) {
	for _, good := range []string{"https://panel.example/api", "http://127.0.0.1:8080", "http://localhost:1"} {
		assert.NoError(t, panel.Check(good))
	}
	for _, bad := range []string{"", "panel.example", "ftp://panel.example", "http://panel.example"} {
		assert.Error(t, panel.Check(bad), bad)
	}
}
