package tui

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// fleet fills a record with n sites, a live one to each nine copies.
func fleet(tb testing.TB, n int) *desk.Desk {
	tb.Helper()
	ctx := context.Background()
	d, err := desk.Open(ctx, desk.Options{Home: filepath.Join(tb.TempDir(), "home")})
	require.NoError(tb, err)
	tb.Cleanup(func() { d.Close() })
	facts := &site.Facts{Core: "6.1", PHP: "8.2", Bytes: 400 << 20}
	for i := range 40 {
		facts.Plugins = append(facts.Plugins, site.Component{Slug: fmt.Sprint("plugin-", i), Name: "A plugin",
			Version: "1.0", State: "active"})
	}
	tx, err := d.Workings().Record.DB().Begin()
	require.NoError(tb, err)
	var live site.ID
	for i := range n {
		s := site.Site{ID: site.NewID(), Name: fmt.Sprintf("site-%04d.example", i), Role: site.Live, State: site.Ready,
			Host: "pier", Addresses: []site.Address{{Scheme: "https", Host: fmt.Sprintf("site-%04d.example", i)}},
			Facts: facts}
		if i%10 == 0 {
			live = s.ID
		} else {
			s.Role, s.Origin, s.Lease = site.Copy, live, site.Begin(time.Now(), time.Duration(i)*time.Hour, time.Hour)
		}
		b, err := json.Marshal(s)
		require.NoError(tb, err)
		_, err = tx.Exec("INSERT INTO sites VALUES (?, ?, ?, ?)", string(s.ID), s.Name, string(s.State), string(b))
		require.NoError(tb, err)
	}
	require.NoError(tb, tx.Commit())
	return d
}

func BenchmarkBoardOf2000(b *testing.B) {
	d := fleet(b, 2000)
	b.Run("first frame", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			fresh, err := desk.Open(context.Background(), desk.Options{Home: d.Home()}) // one that has read nothing yet
			require.NoError(b, err)
			b.StartTimer()
			a := newApp(context.Background(), of(fresh))
			a.Update(tea.WindowSizeMsg{Width: 160, Height: 50})
			a.Update(a.load()())
			_ = a.View()
			b.StopTimer()
			fresh.Close()
			b.StartTimer()
		}
	})
	b.Run("a frame after a site was changed, and a run got on", func(b *testing.B) {
		a := newApp(context.Background(), of(d))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 50})
		a.Update(a.load()())
		s := a.board.Families[3].Copies[2]
		run := plan.Run{ID: "r", Plan: plan.Plan{Target: s, Kind: plan.Copy}, State: plan.Running}
		for b.Loop() {
			require.NoError(b, d.Workings().Record.PutSite(context.Background(), s))
			require.NoError(b, d.Workings().Record.PutRun(context.Background(), run))
			a.Update(a.load()())
			_ = a.View()
		}
	})
	b.Run("a key", func(b *testing.B) {
		a := newApp(context.Background(), of(d))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 50})
		a.Update(a.load()())
		for b.Loop() {
			a.Update(special["down"])
			_ = a.View()
		}
	})
	b.Run("a letter of a search", func(b *testing.B) {
		a := newApp(context.Background(), of(d))
		a.Update(tea.WindowSizeMsg{Width: 160, Height: 50})
		a.Update(a.load()())
		a.Update(tea.KeyPressMsg{Code: '/', Text: "/"})
		for b.Loop() {
			a.Update(tea.KeyPressMsg{Code: '1', Text: "1"})
			_ = a.View()
			a.Update(special["backspace"])
		}
	})
}

func TestALongBoardScrolls(t *testing.T) {
	p := sitAt(t, fleet(t, 300), 160, 50)
	p.sees("30 live", "270 copies", "site-0000.example")
	p.press("end")
	f := p.frame()
	assert.NotContains(t, f, "site-0000.example")
	assert.Contains(t, f, "site-029")
	p.press("g", "/", "site-0123")
	p.sees("find: site-0123", "2 found", "site-0120.example", "site-0123.example")
	found, ok := p.a.stack[0].(*boardScreen).current(p.a)
	require.True(t, ok)
	assert.Equal(t, "site-0123.example", found.Name, "a key means what was found, and not the live site above it")
	p.press("esc", "s")
	lines := strings.Split(p.frame(), "\n")
	assert.Contains(t, lines[3], "site-0001.example", "by what ends next")
}
