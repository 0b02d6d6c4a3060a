package desk_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

func applied(t *testing.T, w *realtest.World, s site.Site, sheet string) plan.Run {
	t.Helper()
	p, err := w.Desk.Pins.PlanPins(context.Background(), s.ID, sheet, nil)
	require.NoError(t, err)
	require.False(t, p.Blocked(), p.Findings)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

func TestASheetMadeFromALiveSiteReproducesItsVersions(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	src, err := w.Desk.Pins.PinsOf(ctx, live.ID)
	require.NoError(t, err)
	p, err := w.Desk.Pins.SavePins("as-live", src, false)
	require.NoError(t, err)
	assert.Contains(t, p.Means, "core 6.1.9, a single site on PHP 8.2")
	_, err = w.Desk.Pins.SavePins("as-live", src, false)
	assert.ErrorContains(t, err, "there is a pin sheet")
	s := w.Copy("ferry", "trial")
	_, err = w.Desk.Pins.PlanPins(ctx, s.ID, "as-live", nil)
	assert.ErrorIs(t, err, desk.ErrNothingToChange, "the copy is as its origin")

	// the copy goes astray in every way that a sheet knows of
	var wish desk.ChangeWish
	for _, n := range []string{"tide-table@2.5.0", "harbour-bell"} {
		x, err := site.ParseSource(site.Plugin, n)
		require.NoError(t, err)
		wish.Put = append(wish.Put, x)
	}
	cores, err := w.Desk.Components.Catalogue().Cores(ctx)
	require.NoError(t, err)
	wish.Put = append(wish.Put, site.Source{Kind: site.Core, Version: cores[0].Version},
		site.Source{Kind: site.Theme, Slug: "slipway-plain"})
	wish.Theme, wish.Runtime, wish.Delete = "slipway-plain", &site.Runtime{PHP: "8.4"}, []string{
		w.Site("ferry").Facts.Themes[0].Slug,
	}
	if live.Facts.Themes[0].State == "active" {
		wish.Delete = []string{live.Facts.Themes[0].Slug}
	}
	c, err := w.Desk.Components.PlanChange(ctx, s.ID, wish, nil)
	require.NoError(t, err)
	r := w.Run(c)
	require.Equal(t, plan.Done, r.State, r.Error)
	g, err := w.Desk.Pins.PinGrid(ctx, s.ID)
	require.NoError(t, err)
	assert.Contains(t, marksOf(g, "core"), desk.MarkUnlike)
	assert.Contains(t, marksOf(g, "tide-table"), desk.MarkUnlike)

	r = applied(t, w, s, "as-live")
	assert.Contains(t, r.Plan.Words, "down")
	assert.Contains(t, r.Result, "its pages answer; its data were brought")
	now := w.Site("trial")
	assert.Equal(t, "as-live", now.Pins)
	assert.Equal(t, live.Facts.Core, now.Facts.Core)
	assert.Equal(t, "8.2", now.Runtime.PHP)
	for _, was := range slices.Concat(live.Facts.Plugins, live.Facts.Themes) {
		i := slices.IndexFunc(slices.Concat(now.Facts.Plugins, now.Facts.Themes),
			func(c site.Component) bool { return c.Slug == was.Slug })
		require.GreaterOrEqual(t, i, 0, was.Slug)
		is := slices.Concat(now.Facts.Plugins, now.Facts.Themes)[i]
		assert.Equal(t, was.Version+" "+was.State, is.Version+" "+is.State, was.Slug)
	}
	g, err = w.Desk.Pins.PinGrid(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{desk.MarkPinned}, marksOf(g, "core"))
	assert.Equal(t, []string{desk.MarkPinned}, marksOf(g, "tide-table"))

	_, err = w.Desk.Pins.SavePins("branch", []byte("[core]\nversion = \"6.1\"\n"), false)
	require.NoError(t, err)
	_, err = w.Desk.Pins.PlanPins(ctx, s.ID, "branch", nil)
	assert.ErrorIs(t, err, desk.ErrNothingToChange, "6.1 means 6.1.9, since the catalogue has no release of that name")
	_, err = w.Desk.Pins.SavePins("first", []byte("[core]\nversion = \"=6.1\"\n"), false)
	require.NoError(t, err)
	_, err = w.Desk.Pins.PlanPins(ctx, s.ID, "first", nil)
	assert.ErrorContains(t, err, "no core that fits =6.1; it has ")
}

func marksOf(g desk.PinGrid, slug string) []string {
	for _, r := range g.Rows {
		if r.Slug == slug {
			return r.Cells[0].Marks
		}
	}
	return nil
}

func TestASheetIsLockedAndHeldTo(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	ctx := context.Background()
	_, err := w.Desk.Pins.SavePins(
		"winter",
		[]byte(
			"# for the winter\n[plugins]\nquay-forms = \"newest\"\nharbour-bell = { version = \"1.*\", state = "+
				"\"off\" }\n",
		),
		false,
	)
	require.NoError(t, err)
	require.NoError(t, w.Desk.Pins.DefaultPins("winter"))
	p, err := w.Desk.Pins.LockPins(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, "1.0", p.Sheet.Lock.Plugins["quay-forms"].Version)
	assert.True(t, strings.HasPrefix(p.Text, "# for the winter\n"))

	// a newer one comes out: the lock holds
	w.Shelf.Items = append(w.Shelf.Items, w.Shelf.Items[len(w.Shelf.Items)-1])
	last := &w.Shelf.Items[len(w.Shelf.Items)-1]
	last.Slug, last.Version = "quay-forms", "9.9"
	applied(t, w, s, "")
	now := w.Site("trial")
	i := slices.IndexFunc(now.Facts.Plugins, func(c site.Component) bool { return c.Slug == "quay-forms" })
	assert.Equal(t, "1.0", now.Facts.Plugins[i].Version)
	i = slices.IndexFunc(now.Facts.Plugins, func(c site.Component) bool { return c.Slug == "harbour-bell" })
	assert.Equal(t, "off", now.Facts.Plugins[i].State)

	// files that are not what the lock says are refused
	require.NoError(t, os.WriteFile(filepath.Join(w.Base, "pins", "winter.toml"),
		[]byte(strings.Replace(p.Text, p.Sheet.Lock.Plugins["quay-forms"].Digest, "sha256:"+strings.Repeat("0", 64),
			1)), 0o600))
	other := w.Copy("ferry", "other")
	_, err = w.Desk.Pins.PlanPins(ctx, other.ID, "winter", nil)
	assert.ErrorContains(t, err, "not the ones that were pinned")

	require.NoError(t, w.Desk.Pins.RenamePins("winter", "spring"))
	_, err = w.Desk.Pins.PinSheet("winter")
	assert.ErrorIs(t, err, desk.ErrNoPinSheet)
	p, err = w.Desk.Pins.PinSheet("")
	require.NoError(t, err)
	assert.Equal(t, "spring", p.Name)
	_, err = w.Desk.Pins.SavePins("../x", nil, false)
	assert.ErrorContains(t, err, "can't be the name")
	_, err = w.Desk.Pins.SavePins("bad", []byte("[plugins]\na = 3\n"), false)
	assert.ErrorContains(t, err, "line 2")
}

func TestTheGridOfTheDemo(t *testing.T) {
	w := demotest.New(t)
	g, err := w.Desk.Pins.PinGrid(context.Background())
	require.NoError(t, err)
	assert.Len(t, g.Names, 4, "sites without a CMS have no versions")
	assert.Equal(t, "core", g.Rows[0].Kind)
	i := slices.IndexFunc(g.Rows, func(r desk.PinRow) bool { return r.Slug == "tide-table" })
	assert.True(t, slices.ContainsFunc(g.Rows[i].Cells,
		func(c desk.PinCell) bool { return slices.Contains(c.Marks, desk.MarkOutdated) }))
	assert.Contains(t, g.Rows[0].Cells[0].Marks, desk.MarkFloating)
}

func TestMain(m *testing.M) { mariadbtest.Main(m) }

func TestACopyIsMadeToASheet(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	w.Keep()
	ctx := context.Background()
	_, err := w.Desk.Pins.SavePins("harbour", []byte(`about = "as we try it"
[runtime]
php = "8.4"
memory = "192M"
[settings]
debug = true
updates = "off"
quiet = ["mail", "tasks", "robots"]
[plugins]
quay-forms = "0.9"
[ballast]
posts = 3
`), false)
	require.NoError(t, err)
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "")
	require.NoError(t, err)
	c.Name, c.Pins = "pinned", "harbour"
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	next, err := w.Desk.Pins.Pinning(ctx, r.Plan.Target.ID)
	require.NoError(t, err)
	if next != "" {
		r, err := w.Desk.Runs.Await(ctx, next, nil)
		require.NoError(t, err)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	s := w.Site("pinned")
	assert.Equal(t, "harbour", s.Pins)
	assert.Equal(t, site.Runtime{PHP: "8.4", Memory: "192M"}, s.Runtime)
	assert.Equal(t, []site.Rule{"mail", "tasks", "robots"}, s.Quiet)
	conf, err := os.ReadFile(filepath.Join(s.Root, "wp-config.php"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), "'AUTOMATIC_UPDATER_DISABLED', true")
	assert.Contains(t, string(conf), "'WP_DEBUG', true")
	assert.Equal(t, "3", counted(t, w, s, "SELECT COUNT(*) FROM sk_posts WHERE guid LIKE 'urn:x-alibi:ballast:%'"))
	got, err := w.Desk.Components.Components(ctx, s.ID, false)
	require.NoError(t, err)
	i := slices.IndexFunc(got.All, func(p desk.Part) bool { return p.Slug == "quay-forms" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, "0.9 active", got.All[i].Version+" "+got.All[i].State)
	_, err = w.Desk.Pins.PlanPins(ctx, s.ID, "harbour", nil)
	assert.ErrorIs(t, err, desk.ErrNothingToChange)

	// A sheet that can't be met leaves the copy standing, and says so.
	_, err = w.Desk.Pins.SavePins("reef", []byte("[plugins]\nquay-forms = \"9.9\"\n"), false)
	require.NoError(t, err)
	c.Name, c.Pins = "aground", "reef"
	p, err = w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	r = w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "not brought to pin sheet reef")
	assert.Equal(t, site.Ready, w.Site("aground").State)
	c.Name, c.Pins = "nowhere", "nothing"
	p, err = w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	assert.True(t, p.Blocked())
}
