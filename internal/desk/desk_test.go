package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/site"
)

func open(t *testing.T) *desk.Desk {
	t.Helper()
	d, err := desk.Open(context.Background(), desk.Options{Home: filepath.Join(t.TempDir(), "home")})
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

func TestTheHomeIsPrivate(t *testing.T) {
	d := open(t)
	require.NoError(t, filepath.Walk(d.Home(), func(p string, fi os.FileInfo, err error) error {
		require.NoError(t, err)
		want := os.FileMode(0o600)
		if fi.IsDir() {
			want = 0o700
		}
		assert.Equal(t, want, fi.Mode().Perm(), p)
		return nil
	}))
	_, err := desk.Open(context.Background(), desk.Options{Home: "relative"})
	assert.ErrorContains(t, err, "must be an absolute path")
	t.Setenv("XDG_DATA_HOME", "/data")
	h, err := desk.DefaultHome()
	require.NoError(t, err)
	assert.Equal(t, "/data/alibi", h)
}

func TestConfigurationErrorsNameTheLine(t *testing.T) {
	for text, want := range map[string]string{
		"[gateway]\nprot = 7700\n":              `line 2: there is no setting "gateway.prot"`,
		"[gateway\n":                            "line 1",
		"[lease]\ndefault = 'soon'\n":           `lease.default: "soon" is no lifetime`,
		"[lease]\ngrace = '0h'\n":               "lease.grace",
		"[gateway]\nport = 99999\n":             "gateway.port must be a number",
		"machine = 'slipway'\n[quota]\nx = 1\n": `line 3: there is no setting "quota.x"`,
	} {
		home := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(home, "config.toml"), []byte(text), 0o600))
		_, err := desk.Open(context.Background(), desk.Options{Home: home})
		assert.ErrorContains(t, err, want, text)
	}
}

func TestConfigurationIsKept(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, "config.toml"),
		[]byte("machine = 'slipway'\n[quota]\ncopies = 3\n[lease]\ndefault = '6h'\n"), 0o600))
	d, err := desk.Open(context.Background(), desk.Options{Home: home})
	require.NoError(t, err)
	defer d.Close()
	assert.Equal(t, "slipway", d.Config().Machine)
	assert.Equal(t, 3, d.Config().Quota.Copies)
	assert.Equal(t, 7700, d.Config().Gateway.Port)
	c, err := d.Copies.CopyDefaults(context.Background(), site.Site{Name: "x"}, "")
	require.NoError(t, err)
	assert.Equal(t, 6*time.Hour, c.Lease)
}

func TestAddSiteSaysWhatIsWrong(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	empty := t.TempDir()
	for name, c := range map[string]struct {
		n    desk.NewSite
		want string
	}{
		"relative":     {desk.NewSite{Root: "srv"}, "is no absolute path"},
		"unknown host": {desk.NewSite{Host: "nowhere", Root: "/srv"}, "add it first: alibi host add nowhere"},
		"no folder":    {desk.NewSite{Host: "pier", Root: "/srv/none"}, "check the folder's name on pier"},
		"no site":      {desk.NewSite{Root: empty}, "there is no site in this folder"},
		"twice": {desk.NewSite{Host: "pier", Root: "/srv/skerryline/public"},
			"is in the record already, as skerryline.example"},
		"no database": {desk.NewSite{Root: w.Dir("slipway", "status") + "/", Address: "harbour.example",
			Database: "other"}, "does not name a database \"other\""},
		"bad address": {desk.NewSite{Root: w.Dir("slipway", "status") + "/", Address: "ftp://x"},
			"http or https, not ftp"},
		"name in use": {desk.NewSite{Host: "drydock", Root: "/var/www/crew/", Name: "tickets.skerryline.example"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := w.Desk.Fleet.AddSite(ctx, c.n)
			require.Error(t, err)
			assert.ErrorContains(t, err, c.want)
		})
	}
	plain := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(plain, "index.html"), []byte("<p>hello"), 0o644))
	_, err := w.Desk.Fleet.AddSite(ctx, desk.NewSite{Root: plain})
	assert.ErrorContains(t, err, "name it with --address")
	s, err := w.Desk.Fleet.AddSite(ctx, desk.NewSite{Root: plain, Address: "harbour.example"})
	require.NoError(t, err)
	assert.Equal(t, "harbour.example", s.Name)
	assert.Equal(t, "plain", s.Stack)
}

func TestAddHostSaysWhatIsWrong(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	assert.ErrorContains(t, d.Fleet.AddHost(ctx, inventory.Host{Name: "Old Pier", Addr: "x"}), `such as "old-pier"`)
	assert.ErrorContains(t, d.Fleet.AddHost(ctx, inventory.Host{Name: "pier"}), "needs an address")
	assert.ErrorContains(t, d.Fleet.AddHost(ctx, inventory.Host{Name: d.Config().Machine, Addr: "x"}),
		"this machine's own name")
	err := d.Fleet.AddHost(ctx, inventory.Host{Name: "pier", Addr: "ops@127.0.0.1:1"})
	assert.ErrorIs(t, err, host.ErrNoAnswer)
	assert.ErrorContains(t, err, "nothing was added")
	hosts, err := d.Fleet.Hosts(ctx)
	require.NoError(t, err)
	assert.Len(t, hosts, 1, "this machine")
}

func TestFind(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	for _, what := range []string{"crew.skerryline.example", "https://crew.skerryline.example/", "crew",
		string(w.Site("crew").ID)} {
		s, err := w.Desk.Fleet.Find(ctx, what)
		require.NoError(t, err, what)
		assert.Equal(t, "crew.skerryline.example", s.Name)
	}
	_, err := w.Desk.Fleet.Find(ctx, ".skerryline")
	assert.ErrorContains(t, err, "fits 4 sites")
	_, err = w.Desk.Fleet.Find(ctx, "zanzibar")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
	_, err = w.Desk.Fleet.Find(ctx, "")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
}

func TestForgetAndOwner(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live := w.Site("crew")
	s, err := w.Desk.Fleet.SetOwner(ctx, live.ID, " edda ")
	require.NoError(t, err)
	assert.Equal(t, "edda", s.Owner)
	c := w.Copy("crew", "held-back")
	assert.ErrorContains(t, w.Desk.Fleet.Forget(ctx, live.ID), "held-back is a copy of it: remove its copies first")
	assert.ErrorContains(t, w.Desk.Fleet.Forget(ctx, c.ID), "remove it instead")
	p, err := w.Desk.Copies.PlanRemove(ctx, c.ID)
	require.NoError(t, err)
	w.Run(p)
	require.NoError(t, w.Desk.Fleet.Forget(ctx, live.ID))
	_, err = w.Desk.Fleet.Find(ctx, "crew")
	assert.ErrorIs(t, err, inventory.ErrUnknown)
	assert.FileExists(t, w.Dir("drydock", "/var/www/crew/wp-config.php"), "the site itself is not touched")
	_, err = w.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: "drydock", Root: "/var/www/crew"})
	assert.NoError(t, err, "and it can be added again")
}

func TestBoard(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	a := w.Copy("https://skerryline.example", "aaa")
	w.Copy("aaa", "bbb")
	_, err := w.Desk.Copies.Extend(ctx, a.ID, 100*time.Hour, "")
	require.NoError(t, err)
	b, err := w.Desk.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Equal(t, 5, b.Live)
	assert.Equal(t, 2, b.Copies)
	assert.Equal(t, "Skerry Line", b.Client)
	assert.Equal(t, 2, b.Use.Copies)
	assert.Positive(t, b.Use.Bytes)
	for _, f := range b.Families {
		if f.Live.Name == "skerryline.example" {
			require.Len(t, f.Copies, 2, "a copy of a copy is of the same family")
			assert.Equal(t, "bbb", f.Copies[0].Name, "what ends next comes first")
		}
	}
	assert.Len(t, b.Matching("PIER").Families, 2)
	assert.Len(t, b.Matching("aaa").Families, 1)
	assert.Empty(t, b.Matching("zanzibar").Families)
	due := b.Due()
	require.Len(t, due, 1)
	assert.Equal(t, "bbb", due[0].Copies[0].Name)
}

func TestPrecious(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	s := w.Copy("https://skerryline.example", "dear")
	assert.Empty(t, w.Desk.Fleet.Precious(ctx, s))
	require.NoError(t, w.Spoil("row-extra", s))
	assert.Contains(t, w.Desk.Fleet.Precious(ctx, w.Site("dear")), "made here are nowhere else")
	s, err := w.Desk.Copies.Hold(ctx, s.ID, "sign-off")
	require.NoError(t, err)
	assert.Equal(t, "it is held: sign-off", w.Desk.Fleet.Precious(ctx, s))
	_, err = w.Desk.Copies.Hold(ctx, s.ID, " ")
	assert.ErrorIs(t, err, site.ErrNoReason)
}

func TestLatchkeyIsForCopiesThatAnswer(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	_, err := w.Desk.Copies.Latchkey(ctx, w.Site("crew").ID, "")
	assert.ErrorContains(t, err, "only a copy that answers")
	s := w.Copy("https://skerryline.example", "keys")
	_, err = w.Desk.Copies.Latchkey(ctx, s.ID, "nobody")
	assert.ErrorContains(t, err, `has no account and no role "nobody"; it has runa`)
	key, err := w.Desk.Copies.Latchkey(ctx, s.ID, "edda")
	require.NoError(t, err)
	assert.Contains(t, key, "http://keys.localhost:")
	_, err = w.Desk.Copies.Latchkey(ctx, w.Copy("status", "boats").ID, "")
	assert.ErrorContains(t, err, "knows of no accounts")
}

func TestNothingSecretIsWrittenDown(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	s := w.Copy("https://skerryline.example", "secret")
	_, err := w.Desk.Copies.Latchkey(context.Background(), s.ID, "")
	require.NoError(t, err)
	w.Stop()
	key, err := os.ReadFile(filepath.Join(w.Home, "demo-key"))
	require.NoError(t, err)
	for _, f := range []string{"alibi.log", "record.db", "config.toml"} {
		b, err := os.ReadFile(filepath.Join(w.Home, f))
		require.NoError(t, err)
		assert.NotContains(t, string(b), string(key[40:80]), f)
		assert.NotContains(t, string(b), string(w.Desk.Workings().Secret), f)
	}
}

func TestEvidenceIsForCopies(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	_, err := w.Desk.Copies.Prove(ctx, w.Site("crew").ID, false, nil)
	assert.ErrorContains(t, err, "a copy is compared with its origin, so name a copy")
	_, err = w.Desk.Copies.PlanRefresh(ctx, w.Site("crew").ID)
	assert.ErrorContains(t, err, "only a copy that answers can be brought in line")
}

func TestSetHostSaysWhatIsWrong(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	set := func(name string, to desk.HostSettings) error {
		_, err := w.Desk.Fleet.SetHost(ctx, name, to)
		return err
	}
	assert.ErrorContains(t, set("slipway", desk.HostSettings{Copies: "/srv/copies"}), "config.toml")
	assert.ErrorIs(t, set("moon", desk.HostSettings{}), inventory.ErrUnknown)
	assert.ErrorContains(t, set("pier", desk.HostSettings{Copies: "copies"}), "absolute path")
	assert.ErrorContains(t, set("pier", desk.HostSettings{Copies: "/"}), "below the root")
	root := w.Site("tickets.skerryline.example").Root
	assert.ErrorContains(t, set("pier", desk.HostSettings{Copies: root + "/copies"}), "would show copies to everybody")
	assert.ErrorContains(t, set("pier", desk.HostSettings{Copies: root}), "nothing was changed")
	assert.NoDirExists(t, w.Dir("pier", root+"/copies"))
	pier, err := w.Desk.Workings().Record.Host(ctx, "pier")
	require.NoError(t, err)
	pier.Name = "jetty"
	require.NoError(t, w.Desk.Workings().Record.PutHost(ctx, pier))
	assert.ErrorContains(t, set("jetty", desk.HostSettings{Copies: root + "/wp-content"}), "pier is the same machine")
	require.NoError(t, os.WriteFile(w.Dir("pier", "/srv/file"), nil, 0o600))
	assert.ErrorContains(t, set("pier", desk.HostSettings{Copies: "/srv/file/copies"}),
		"copies can't be made in /srv/file/copies on pier")
	assert.ErrorContains(t, set("pier", desk.HostSettings{Limits: site.Limits{Load: -1}}), "below 0")
	err = set(
		"pier",
		desk.HostSettings{
			Server: site.Server{
				Address:      "127.0.0.1:1",
				User:         "alibi",
				PasswordFile: filepath.Join(t.TempDir(), "none"),
			},
		},
	)
	assert.ErrorContains(t, err, "reading the password")
	require.NoError(t, set("pier", desk.HostSettings{Copies: "/srv/copies/",
		Limits: site.Limits{Streams: 1, Bandwidth: 1 << 20}}))
	require.NoError(t, set("pier", desk.HostSettings{Limits: site.Limits{Load: 4}}), "what is not named stays")
	assert.ErrorContains(t, set("pier", desk.HostSettings{At: "127.0.0.99"}), "nothing was changed")
	require.NoError(t, set("pier", desk.HostSettings{At: "localhost"}))
	for _, at := range []string{"/srv", "/srv/copies", "/srv/copies/winter/now"} {
		_, err = w.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: "pier", Root: at})
		assert.ErrorContains(t, err, "copies are made in /srv/copies on pier", at)
	}
	_, err = w.Desk.Moves.Begin(ctx, desk.NewMove{Site: w.Site("tickets.skerryline.example").ID, Host: "pier",
		Root: "/srv/copies/tickets"})
	assert.ErrorContains(t, err, "copies are made in /srv/copies on pier")
	h, err := w.Desk.Workings().Record.Host(ctx, "pier")
	require.NoError(t, err)
	assert.Equal(t, "/srv/copies", h.Copies)
	assert.Equal(t, "localhost", h.At)
	assert.Equal(t, site.Limits{Streams: 1, Bandwidth: 1 << 20, Load: 4}, h.Limits)
	_, err = w.Desk.Workings().Env.Server(ctx, "pier")
	assert.ErrorIs(t, err, op.ErrNoServer)
}

func TestACopyThatIsDrawnIsMadeHere(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	_, err := w.Desk.Fleet.SetHost(ctx, "drydock", desk.HostSettings{Copies: "/srv/copies"})
	require.NoError(t, err)
	origin := w.Site("https://skerryline.example")
	c, err := w.Desk.Copies.CopyDefaults(ctx, origin, "")
	require.NoError(t, err)
	c.Host = "drydock"
	p, err := w.Desk.Copies.PlanCopy(ctx, origin.ID, c)
	require.NoError(t, err)
	require.True(t, p.Blocked())
	assert.Contains(t, p.Findings[0].Text, "on this machine only")
	_, err = w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	assert.ErrorContains(t, err, "can't be carried out")
}

func TestLimitsOfAHost(t *testing.T) {
	w := demotest.New(t)
	ctx := context.Background()
	_, err := w.Desk.Fleet.SetHost(ctx, "pier", desk.HostSettings{
		Limits: site.Limits{Bandwidth: 1 << 20, Compress: "always"},
	})
	require.NoError(t, err)
	h, err := w.Desk.Fleet.SetHost(ctx, "pier", desk.HostSettings{Limits: site.Limits{Streams: 1}})
	require.NoError(t, err)
	assert.Equal(t, site.Limits{Bandwidth: 1 << 20, Streams: 1, Compress: "always"}, h.Limits,
		"what is not named stays")
	for want, l := range map[string]site.Limits{"can't be below 0": {Load: -1},
		`"sometimes" is no rule for compressing: name far, always or never`: {Compress: "sometimes"}} {
		_, err := w.Desk.Fleet.SetHost(ctx, "pier", desk.HostSettings{Limits: l})
		assert.ErrorContains(t, err, want)
	}
}
