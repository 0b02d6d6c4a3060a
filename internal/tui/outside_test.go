package tui

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

func TestTheLiveNameOnTheScreens(t *testing.T) {
	w, p := world(t)
	w.Copy("https://skerryline.example", "near")
	p.run(p.a.load())
	p.press("/", "near", "enter", "down", "p")
	p.sees("See near under the live name?", "skerryline.example, www.skerryline.example", "alibi proxy near")
	p.press("esc", "p", "enter")
	p.sees("answers 200 from near; p ends it")
	p.run(p.a.load())
	p.press("esc")
	p.sees("its name leads to near here")
	p.press("enter")
	p.sees("live name", "leads here since")
	p.press("p")
	p.sees("no name leads to near any more")
	text, err := os.ReadFile(filepath.Join(w.Home, "hosts"))
	if err == nil {
		assert.NotContains(t, string(text), "alibi")
	}
}

func TestWhatWasCaughtOnTheScreens(t *testing.T) {
	w, p := world(t)
	s := w.Copy("https://skerryline.example", "near")
	p.run(p.a.load())
	p.press("/", "near", "enter", "down", "m")
	p.sees("Nothing was caught")
	p.press("esc")
	dir := filepath.Join(filepath.Dir(s.Root), "caught")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "mail-1.json"),
			[]byte(
				`{"to":"harbour@skerryline.example","subject":"High water","message":"Mind the step\nand the rope",`+
					`"headers":"From: tide@skerryline.example","attachments":[],"at":"2026-03-01T10:00:00Z"}`,
			), 0o600),
	)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "outward-2.json"),
		[]byte(`{"method":"POST","url":"https://pay.example/charge","at":"2026-03-01T12:00:00Z"}`), 0o600))
	p.press("m")
	p.sees("caught on near", "harbour@skerryline.example", "High water", "POST https://pay.example/charge")
	p.press("down", "down", "up", "down")
	p.press("?")
	p.sees("called another machine, and its", "wall let nothing out there")
	p.press("esc", "esc")
	p.sees("near")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "refused-3.json"), []byte(`{"network":"tcp","host":"api.example",`+
		`"port":8443,"times":12,"first":"2026-03-02T12:00:00Z","last":"2026-03-02T12:00:00Z"}`), 0o600))
	p.press("m")
	p.sees("tcp api.example:8443", "refused 12 times", "let it through")
	p.press("w")
	p.sees("Let near reach api.example:8443?")
	p.press("s", "o", "o", "n", "enter")
	p.sees("Let near reach api.example:8443?")
	assert.Empty(t, w.Site("near").Passes, "a span that can't be read lets nothing through")
	p.press("backspace", "backspace", "backspace", "backspace", "2", "h", "enter")
	p.sees("near may reach api.example:8443")
	require.Len(t, w.Site("near").Passes, 1)
	assert.WithinDuration(t, time.Now().Add(2*time.Hour), w.Site("near").Passes[0].Until, 10*time.Minute)
}

func TestAPlanFitsIntoALowWindow(t *testing.T) {
	w, p := world(t)
	p.a.w, p.a.h = 128, 22
	p.press("/", "skerryline.example", "enter", "down", "down", "c")
	p.sees("what to call it", "Enter")
	plan, ok := p.a.stack[len(p.a.stack)-1].(*planScreen)
	require.True(t, ok)
	for range plan.choicesFor()[1:] {
		p.press("tab")
		p.sees(plan.choicesFor()[plan.at].help[:12])
	}
	assert.Equal(t, len(plan.choicesFor())-1, plan.at)
	assert.NotEmpty(t, w.Site("https://skerryline.example").Facts.Kinds)
}

func TestKindsAreToggled(t *testing.T) {
	f := &site.Facts{Kinds: []site.Count{{Kind: "posts", N: 3}, {Kind: "pages", N: 2}, {Kind: "orders"}}}
	only := toggledKind(nil, site.Posts, f)
	assert.NotContains(t, only, site.Posts)
	assert.Contains(t, only, site.Pages)
	assert.Nil(t, toggledKind(only, site.Posts, f), "all that there is, is all")
	none := toggledKind(only, site.Pages, f)
	assert.NotNil(t, none)
	assert.NotContains(t, none, site.Pages)
}
