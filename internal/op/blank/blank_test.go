package blank_test

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }

func wish(name string) desk.BlankWish { return desk.BlankWish{Name: name, Lease: time.Hour} }

// nothing wants nothing of a site to be left.
func nothing(t *testing.T, w *realtest.World) {
	t.Helper()
	left, err := w.Desk.Fleet.Leftovers(context.Background())
	require.NoError(t, err)
	require.NoError(t, w.Desk.Fleet.ClearLeftovers(context.Background(), left))
	list, err := mariadbtest.Root().Databases(context.Background())
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(list, " "), "alibi_")
	dirs, err := os.ReadDir(w.Base + "/copies")
	require.NoError(t, err)
	assert.Empty(t, dirs)
}

func TestABlankSiteOfEachCore(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Keep()
	ctx := context.Background()
	cores, err := w.Desk.Components.Catalogue().Cores(ctx)
	require.NoError(t, err)
	require.Len(t, cores, 3)
	for i, php := range []string{"8.4", "8.2", "7.4"} {
		b := wish("blank-" + strings.ReplaceAll(cores[i].Version, ".", "-"))
		b.Core, b.PHP, b.Title, b.Password = cores[i].Version, php, "Practice", "a long enough word"
		p, err := w.Desk.Copies.PlanBlank(ctx, b, nil)
		require.NoError(t, err)
		require.False(t, p.Blocked(), p.Findings)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
		s := w.Site(b.Name)
		assert.Equal(t, cores[i].Version, s.Facts.Core)
		assert.Equal(t, "Practice", s.Title)
		assert.Equal(t, site.Ready, s.State)
		assert.Equal(t, s.Address(), s.Facts.Addresses[0])
		a, err := w.Desk.Workings().Env.Probe(ctx, s)
		require.NoError(t, err)
		assert.Equal(t, 200, a.Status)
		assert.True(t, a.Banner)
		assert.Empty(t, a.Failed)
		tried, err := w.Desk.Workings().Env.Try(ctx, s, op.Outside{})
		require.NoError(t, err)
		for _, q := range s.Quiet {
			assert.True(t, tried.Holds[q], q)
		}
		_, err = w.Desk.Copies.Latchkey(ctx, s.ID, "keeper")
		require.NoError(t, err)
		got, err := w.Desk.Hands.FilesChanged(ctx, s)
		require.NoError(t, err)
		for _, f := range got {
			assert.Equal(t, desk.FileOwn, f.State, f.Path)
		}
		_, err = w.Desk.Copies.Prove(ctx, s.ID, false, nil)
		assert.ErrorContains(t, err, "made without an origin")
		_, _, err = w.Desk.Copies.RefreshInput(ctx, s.ID)
		assert.ErrorContains(t, err, "made without an origin")
	}
	board, err := w.Desk.Fleet.Board(ctx)
	require.NoError(t, err)
	assert.Equal(t, 3, board.Copies)
	s := w.Site("blank-" + strings.ReplaceAll(cores[0].Version, ".", "-"))
	p, err := w.Desk.Copies.PlanRemove(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, plan.Done, w.Run(p).State)
}

func TestABlankSiteToASheet(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Keep()
	ctx := context.Background()
	_, err := w.Desk.Pins.SavePins(
		"practice",
		[]byte(
			"[core]\nversion = \"6.1.*\"\n[runtime]\nphp = \"8.2\"\n[plugins]\nharbour-bell = "+
				"\"1.0\"\n[ballast]\nposts = 4\n",
		),
		false,
	)
	require.NoError(t, err)
	b := wish("practice")
	b.Pins = "practice"
	p, err := w.Desk.Copies.PlanBlank(ctx, b, nil)
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
	s := w.Site("practice")
	assert.Equal(t, "practice", s.Pins)
	assert.True(t, strings.HasPrefix(s.Facts.Core, "6.1"))
	list, err := w.Desk.Components.Components(ctx, s.ID, false)
	require.NoError(t, err)
	found := false
	for _, c := range list.All {
		found = found || c.Slug == "harbour-bell" && c.Version == "1.0" && c.State == "active"
	}
	assert.True(t, found)
}

func TestABlankSiteKilledAtEachMoment(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	ctx := context.Background()
	for i, moment := range []string{"reserve end", "files progress", "files end", "configure end", "place end",
		"install end"} {
		t.Run(moment, func(t *testing.T) {
			p, err := w.Desk.Copies.PlanBlank(ctx, wish("killed"), nil)
			require.NoError(t, err)
			r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
			require.NoError(t, err)
			demotest.KilledAt(t, w.World, moment)
			if i%2 == 1 { // and taken back
				require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
				w.Keep()
				r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
				require.NoError(t, err)
				assert.Equal(t, plan.Cancelled, r.State)
				w.Stop()
				nothing(t, w)
				return
			}
			r = demotest.Resumed(t, w.World, r.ID)
			assert.Contains(t, r.Result, "core ")
			w.Keep()
			p, err = w.Desk.Copies.PlanRemove(ctx, w.Site("killed").ID)
			require.NoError(t, err)
			assert.Equal(t, plan.Done, w.Run(p).State)
			w.Stop()
			nothing(t, w)
		})
	}
}

func TestWhatCannotBeMade(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	ctx := context.Background()
	for text, want := range map[string]string{"newest": "6.8.12", "6.1": "6.1.9", "5.7.11": "5.7.11", "<6": "5.7.11",
		">=6 <6.5": "6.1.9"} {
		p, err := w.Desk.Copies.PlanBlank(ctx, desk.BlankWish{Name: "x", Core: text, Lease: time.Hour}, nil)
		require.NoError(t, err, text)
		assert.Contains(t, string(p.Detail), `"version":"`+want+`"`, text)
	}
	_, err := w.Desk.Copies.PlanBlank(ctx, desk.BlankWish{Name: "x", Core: "1.0", Lease: time.Hour}, nil)
	assert.ErrorContains(t, err, "the catalogue does not know it")
	p, err := w.Desk.Copies.PlanBlank(ctx, desk.BlankWish{Name: "Not A Name", PHP: "5.3", Lease: time.Hour}, nil)
	require.NoError(t, err)
	assert.True(t, p.Blocked())
	var text []string
	for _, f := range p.Findings {
		text = append(text, f.Text)
	}
	assert.Contains(t, strings.Join(text, "\n"), "PHP 5.3 is not on this machine")
	_, err = w.Desk.Copies.PlanBlank(ctx, desk.BlankWish{Name: "x", Password: "short", Lease: time.Hour}, nil)
	assert.ErrorContains(t, err, "too short")
	_, err = w.Desk.Copies.PlanBlank(ctx, desk.BlankWish{Name: "x", Pins: "nothing", Lease: time.Hour}, nil)
	assert.ErrorIs(t, err, desk.ErrNoPinSheet)
}
