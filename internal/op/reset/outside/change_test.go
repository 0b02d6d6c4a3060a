package outside_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/demo/resettest"
	"alibi/internal/desk"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/runtime/outbox"
	"alibi/internal/site"
)

// changing plans a change and carries it out.
func changing(t *testing.T, w *demotest.World, s site.Site, wish desk.ChangeWish) plan.Run {
	t.Helper()
	p, err := w.Desk.Components.PlanChange(context.Background(), s.ID, wish, nil)
	require.NoError(t, err)
	require.False(t, p.Blocked(), p.Findings)
	return resettest.Await(t, w, resettest.Start(t, w, p))
}

func changed(t *testing.T, w *demotest.World, s site.Site, wish desk.ChangeWish) plan.Run {
	t.Helper()
	r := changing(t, w, s, wish)
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

func from(slugs ...string) (out []site.Source) {
	for _, s := range slugs {
		src, _ := site.ParseSource(site.Plugin, s)
		out = append(out, src)
	}
	return out
}

// states gives what is on a site now, as VERSION STATE by slug.
func states(t *testing.T, w *demotest.World, s site.Site) map[string]string {
	t.Helper()
	p, err := w.Desk.Components.Components(context.Background(), s.ID, false)
	require.NoError(t, err)
	out := map[string]string{"php": p.PHP, "core": p.Core}
	for _, c := range p.All {
		if c.Kind != site.Core {
			out[c.Slug] = c.Version + " " + c.State
		}
	}
	return out
}

// page gives what a copy's first page says.
func page(t *testing.T, s site.Site) (int, string) {
	t.Helper()
	port, err := strconv.Atoi(s.Address().Port)
	require.NoError(t, err)
	return resettest.Visit(t, port, s.Address().Host+":"+s.Address().Port)
}

// tableNames lists a site's tables, as it was inspected last.
func tableNames(t *testing.T, w *demotest.World, s site.Site) (out []string) {
	t.Helper()
	for _, tab := range w.Site(s.Name).Facts.Tables {
		out = append(out, tab.Name)
	}
	return out
}

func TestWhatARealCopyRunsIsChangedFromOutside(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	before := resettest.Kept(t, w.World, s)

	changed(t, w.World, s, desk.ChangeWish{Put: from("harbour-bell", "quay-forms@0.9")})
	got := states(t, w.World, s)
	assert.Equal(t, "1.1 active", got["harbour-bell"])
	assert.Equal(t, "0.9 active", got["quay-forms"])
	assert.Contains(t, got["tide-table"], "active")
	status, text := page(t, s)
	assert.Equal(t, 200, status)
	assert.True(t, strings.Contains(text, "Harbour Bell is new"))
	assert.Contains(t, tableNames(t, w.World, s), "sk_quay_forms", "what the plugin does when it is activated was done")

	changed(t, w.World, s, desk.ChangeWish{Put: from("quay-forms", "deck-notes"), PutOff: []string{"harbour-bell"}})
	got = states(t, w.World, s)
	assert.Equal(t, "1.0 active", got["quay-forms"])
	assert.Equal(t, "1.1 off", got["harbour-bell"])
	_, text = page(t, s)
	assert.False(t, strings.Contains(text, "Harbour Bell"))
	assert.True(t, strings.Contains(text, "harbour master"), "the page shows the newer one")

	changed(
		t,
		w.World,
		s,
		desk.ChangeWish{
			Put:    []site.Source{{Kind: site.Theme, Slug: "slipway-plain"}},
			Theme:  "slipway-plain",
			Delete: []string{"harbour-bell"},
		},
	)
	got = states(t, w.World, s)
	assert.Equal(t, "1.1 active", got["slipway-plain"])
	assert.NotContains(t, got, "harbour-bell")
	_, text = page(t, s)
	assert.True(t, strings.Contains(text, `<main class="slipway-plain">`))

	resettest.Restore(t, w.World, before, resettest.Whole)
	resettest.Same(t, w.World, before)
	assert.NotContains(t, states(t, w.World, s), "deck-notes")
}

func TestAPluginThatBreaksACopyIsTakenBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	changed(t, w.World, s, desk.ChangeWish{Put: from("quay-forms@0.9")})
	before := resettest.Kept(t, w.World, s)
	r := changing(t, w.World, s, desk.ChangeWish{Put: from("fog-horn", "quay-forms")})
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "fog_horn_is_not_there", "the reason is told")
	assert.NotContains(t, r.Error, w.Base, "by the path below the site's root")
	assert.Contains(t, r.Remedy, "taken back")
	resettest.Same(t, w.World, before)
	status, _ := page(t, s)
	assert.Equal(t, 200, status)

	came := calling(t, s)
	changed(t, w.World, s, desk.ChangeWish{Put: from("fog-horn"), Anyway: true})
	status, _ = page(t, s)
	assert.Equal(t, 500, status)
	wish, was, err := w.Desk.Components.RescueWish(context.Background(), s.ID)
	require.NoError(t, err)
	why, err := w.Desk.Components.Complaints(context.Background(), s)
	require.NoError(t, err)
	require.NotEmpty(t, why)
	assert.Contains(t, why[0], "fog_horn_is_not_there")
	changed(t, w.World, s, wish)
	status, _ = page(t, s)
	assert.Equal(t, 200, status, "rescued")
	told := map[string]string{}
	require.NoError(t, w.Desk.Components.Again(context.Background(), s.ID, was,
		func(slug, why string) { told[slug] = why }))
	assert.Equal(t, "on again", told["quay-forms"])
	assert.Contains(t, told["fog-horn"], "fog_horn_is_not_there")
	status, _ = page(t, s)
	assert.Equal(t, 200, status)
	assert.Zero(t, came.Load(), "a rescue runs the copy's code behind its wall")
	list, err := w.Desk.Copies.Caught(context.Background(), s.ID)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(list, func(it outbox.Item) bool { return it.Kind == "refused" && it.Times > 3 }))
}

// calling has a copy's code call this machine whenever it runs, and counts who came.
func calling(t *testing.T, s site.Site) *atomic.Int64 {
	t.Helper()
	l := demotest.Listen(t, 20000)
	t.Cleanup(func() { l.Close() })
	came := new(atomic.Int64)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			came.Add(1)
			c.Close()
		}
	}()
	code := fmt.Sprintf("<?php @fsockopen('127.0.0.1', %d, $n, $why, 1);", l.Addr().(*net.TCPAddr).Port)
	dir := filepath.Join(s.Root, "wp-content/mu-plugins")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a-call.php"), []byte(code), 0o644))
	return came
}

func TestCoreAndRuntimeOfARealCopy(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	before := resettest.Kept(t, w.World, s)
	cores, err := w.Desk.Components.Catalogue().Cores(context.Background())
	require.NoError(t, err)
	require.Len(t, cores, 3, "script/real cores has three")
	r := changed(
		t,
		w.World,
		s,
		desk.ChangeWish{
			Put:     []site.Source{{Kind: site.Core, Version: cores[0].Version}},
			Runtime: &site.Runtime{PHP: "8.4", Memory: "256M"},
		},
	)
	got := states(t, w.World, s)
	assert.Equal(t, cores[0].Version, got["core"])
	assert.Equal(t, "8.4", got["php"])
	i := slices.IndexFunc(r.Steps, func(p plan.Progress) bool { return p.Name == "wake" })
	assert.Contains(t, r.Steps[i].Note, "its data were brought from version")
	status, _ := page(t, s)
	assert.Equal(t, 200, status)
	tried, err := w.Desk.Workings().Env.Try(context.Background(), w.Site("trial"), op.Outside{})
	require.NoError(t, err)
	assert.Equal(t, "256M", tried.Memory)
	assert.Equal(t, cores[0].Version, tried.Core)

	// a core that is too old for this PHP, or a PHP that is not there
	p, err := w.Desk.Components.PlanChange(context.Background(), s.ID,
		desk.ChangeWish{Runtime: &site.Runtime{PHP: "5.6"}}, nil)
	require.NoError(t, err)
	assert.True(t, p.Blocked())

	resettest.Restore(t, w.World, before, resettest.Whole)
	resettest.Same(t, w.World, before)
}

func TestBadComponents(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	ctx := context.Background()
	for name, wish := range map[string]desk.ChangeWish{
		"the catalogue does not know it": {Put: from("no-such-plugin")},
		"it has 3.0.0, 2.5.0":            {Put: from("tide-table@9.9")},
		"has no plugin called":           {On: []string{"nothing"}},
		"has no theme called":            {Theme: "nothing"},
		"it is so already":               {On: []string{"tide-table"}},
		"is on: put another one on":      {Delete: []string{theme(t, w.World, s)}},
		"asks for":                       {Put: from("site:nowhere/x")},
	} {
		_, err := w.Desk.Components.PlanChange(ctx, s.ID, wish, nil)
		if name == "asks for" {
			assert.ErrorContains(t, err, "no site is called")
			continue
		}
		assert.ErrorContains(t, err, name)
	}
	p, err := w.Desk.Components.PlanChange(ctx, s.ID, desk.ChangeWish{Put: from("deck-notes")}, nil)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(p.Findings, func(f site.Finding) bool { return f.Code == "unmet" }))
	p, err = w.Desk.Components.PlanChange(ctx, s.ID, desk.ChangeWish{Put: from("port-watch", "starboard-watch")}, nil)
	require.NoError(t, err)
	i := slices.IndexFunc(p.Findings, func(f site.Finding) bool { return f.Code == "conflict" })
	require.GreaterOrEqual(t, i, 0, "a conflict is known before")
	assert.Contains(t, p.Findings[i].Text, "skerry_watch")
	live := w.Site("ferry")
	p, err = w.Desk.Components.PlanChange(ctx, live.ID, desk.ChangeWish{Put: []site.Source{{Kind: site.Core}}}, nil)
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "the core of a live site is not changed")
	p, err = w.Desk.Components.PlanChange(ctx, live.ID, desk.ChangeWish{PutOff: []string{"tide-table"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, live.Name, p.Confirm)
	_, err = w.Desk.Runs.Start(ctx, p)
	assert.ErrorIs(t, err, desk.ErrNotTyped)
	r := resettest.Await(t, w.World, resettest.Start(t, w.World, p))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, states(t, w.World, live)["tide-table"], "off")
	_, err = os.Stat(filepath.Join(live.Root, "wp-content/plugins/tide-table"))
	assert.NoError(t, err)
}

func theme(t *testing.T, w *demotest.World, s site.Site) string {
	t.Helper()
	for _, c := range w.Site(s.Name).Facts.Themes {
		if c.State == "active" {
			return c.Slug
		}
	}
	t.Fatal("no theme is on")
	return ""
}

func TestAChangeKilledAtEachMoment(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	changed(t, w.World, s, desk.ChangeWish{Put: from("quay-forms@0.9")})
	w.Stop()
	ctx := context.Background()
	for i, moment := range []string{"stage end", "tables end", "files end", "wake end"} {
		t.Run(moment, func(t *testing.T) {
			version := []string{"1.0", "0.9"}[i%2]
			bell := desk.ChangeWish{Put: from("quay-forms@" + version), PutOff: []string{"tide-table"}}
			if i%2 == 1 {
				bell.PutOff, bell.On = nil, []string{"tide-table"}
			}
			p, err := w.Desk.Components.PlanChange(ctx, s.ID, bell, nil)
			require.NoError(t, err)
			r := resettest.Start(t, w.World, p)
			demotest.KilledAt(t, w.World, moment)
			demotest.Resumed(t, w.World, r.ID)
			got := states(t, w.World, s)
			assert.Equal(t, version+" active", got["quay-forms"])
			assert.Equal(t, []string{"2.4.1 off", "2.4.1 active"}[i%2], got["tide-table"])
			resettest.Clear(t, w.World, s.ID)
		})
	}
	w.Keep()
	status, _ := page(t, s)
	assert.Equal(t, 200, status)
}

func TestAChangeCancelledAfterItsCodeRanIsTakenBack(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	w.Make("ferry")
	w.Keep()
	s := w.Copy("ferry", "trial")
	before := resettest.Kept(t, w.World, s)
	w.Stop()
	ctx := context.Background()
	for _, moment := range []string{"tables end", "files end", "wake begin", "wake end"} {
		t.Run(moment, func(t *testing.T) {
			p, err := w.Desk.Components.PlanChange(ctx, s.ID,
				desk.ChangeWish{Put: from("quay-forms"), Runtime: &site.Runtime{PHP: "7.4"}}, nil)
			require.NoError(t, err)
			r := resettest.Start(t, w.World, p)
			demotest.KilledAt(t, w.World, moment)
			require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
			w.Keep()
			defer w.Stop()
			r = resettest.Await(t, w.World, r)
			require.Equal(t, plan.Cancelled, r.State, r.Error)
			resettest.Same(t, w.World, before)
			assert.Equal(t, s.Runtime, w.Site("trial").Runtime)
			assert.Empty(t, w.Site("trial").Run)
		})
	}
}
