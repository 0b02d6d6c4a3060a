package tui

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/plan"
)

// luminance of a colour, as WCAG 2 defines it.
func luminance(t *testing.T, hex string) float64 {
	t.Helper()
	n, err := strconv.ParseUint(strings.TrimPrefix(hex, "#"), 16, 32)
	require.NoError(t, err)
	ch := func(v uint64) float64 {
		f := float64(v&255) / 255
		if f <= 0.03928 {
			return f / 12.92
		}
		return math.Pow((f+0.055)/1.055, 2.4)
	}
	return 0.2126*ch(n>>16) + 0.7152*ch(n>>8) + 0.0722*ch(n)
}

func contrast(t *testing.T, a, b string) float64 {
	x, y := luminance(t, a), luminance(t, b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

func TestContrast(t *testing.T) {
	for name, c := range map[string]struct {
		p       palette
		grounds []string
	}{"dark": {dark, []string{"#000000", dark.ground, "#1e2127"}},
		"light": {light, []string{"#ffffff", light.ground}}} {
		for _, g := range c.grounds {
			for _, ink := range append([]string{c.p.ink, c.p.soft, c.p.copy, c.p.soon, c.p.wrong, c.p.good, c.p.link},
				c.p.marks[:]...) {
				assert.GreaterOrEqual(t, contrast(t, ink, g), 4.5, "%s: %s on %s", name, ink, g)
			}
		}
		assert.GreaterOrEqual(t, contrast(t, c.p.live, c.p.liveGround), 4.5, name)
		assert.GreaterOrEqual(t, contrast(t, c.p.chosen, c.p.chosenGround), 4.5, name)
	}
}

func TestAlong(t *testing.T) {
	assert.Equal(t, 0, along(0, 61))
	assert.Equal(t, 0, along(-time.Hour, 61))
	assert.Equal(t, 10, along(6*time.Hour, 61))
	assert.Equal(t, 20, along(24*time.Hour, 61))
	assert.Equal(t, 60, along(30*24*time.Hour, 61))
	assert.Equal(t, 60, along(300*24*time.Hour, 61))
	last := 0
	for h := range 720 {
		x := along(time.Duration(h)*time.Hour, 40)
		assert.GreaterOrEqual(t, x, last)
		last = x
	}
	assert.Regexp(t, regexp.MustCompile(`^now +6h +1d +3d +7d +14d +30d$`), axisHead(60))
	assert.NotContains(t, axisHead(20), "14d30d", "labels do not touch")
}

func TestLocales(t *testing.T) {
	env := func(m map[string]string) func(string) string { return func(k string) string { return m[k] } }
	assert.False(t, asciiOnly(env(nil)))
	assert.False(t, asciiOnly(env(map[string]string{"LANG": "en_GB.UTF-8"})))
	assert.True(t, asciiOnly(env(map[string]string{"LANG": "en_GB.UTF-8", "LC_ALL": "C"})))
	assert.True(t, asciiOnly(env(map[string]string{"LANG": "de_DE.ISO-8859-1"})))
}

func TestRemaining(t *testing.T) {
	now := time.Now()
	r := plan.Run{State: plan.Running, Began: now.Add(-10 * time.Second),
		Steps: []plan.Progress{{Began: now, Ended: now}, {Began: now, Work: 100, Done: 50}}}
	r.Plan.Estimate = plan.Estimate{Low: 10 * time.Second, High: 20 * time.Second}
	left, ok := remaining(r, now)
	assert.True(t, ok)
	assert.InDelta(t, 3.75, left.Seconds(), 0.1)
	assert.Equal(t, "75 %", percent(r))
	_, ok = remaining(plan.Run{State: plan.Done}, now)
	assert.False(t, ok)
}
