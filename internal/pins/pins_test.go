package pins

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/site"
)

const sheet = `# The winter sheet. Ask ivo before changing it.
about = "winter"
others = "off"

[core]
version = ">=6.1 <7"   # not 7 yet
language = "en_GB"
network = false

[runtime]
php = "8.2"
memory = "256M"

[plugins]
tide-table = "~2.4.1"     # later ones forget the moon
quay-forms = { version = "1.0", state = "off" }   # until spring
deck = { from = "https://git.stowage.example/deck.git", ref = "main" }

[themes]
harbour = { version = "newest", state = "on" }

[ballast]
posts = 10
`

func TestASheetIsReadAndExplained(t *testing.T) {
	s, err := Parse("winter", []byte(sheet))
	require.NoError(t, err)
	assert.Equal(t, Pin{Version: "1.0", State: "off"}, s.Plugins["quay-forms"])
	assert.Equal(t, "main", s.Plugins["deck"].Ref)
	assert.Equal(t, 10, s.Ballast["posts"])
	assert.Equal(
		t,
		"core >=6.1 <7 in en_GB, a single site on PHP 8.2, 3 plugins (2 floating, 1 off), the theme harbour, "+
			"everything else off",
		s.Explain(),
	)
}

func TestWhatIsWrongWithASheetIsSaidWithItsLine(t *testing.T) {
	for src, want := range map[string]string{
		"[core]\nversion = \"six\"\n":                            `x, line 2: the core: "six" is no version and no range`,
		"\n\n[plugins]\na = 3\n":                                 "x, line 4: a: write its version as a text",
		"[plugins]\na = { version = \"1\", colour = \"red\" }\n": "x, line 2: colour of a: a component has",
		"[plugins]\na = { version = \"1\", state = " +
			"\"asleep\" }\n": `x, line 2: a: a component is on or off, not "asleep"`,
		"[plugins]\n\"../x\" = \"1\"\n":                 `x, line 2: "../x" can't be the name of one of plugins`,
		"[runtime]\nphp = \"8\"\n":                      `x, line 2: "8" is no series of PHP`,
		"[runtime]\nphp = \"8.2\"\nmemory = \"lots\"\n": `x, line 3: "lots" is no size that PHP knows`,
		"[runtim]\nphp = \"8.2\"\n":                     "x, line 1: there is nothing called",
		"others = \"eat\"\n":                            `x, line 1: others are left (leave)`,
		"[ballast]\nwhales = 3\n":                       "x, line 2: there is no ballast of 3 whales",
		"[settings]\nquiet = [\"mail\", \"noise\"]\n":   `x, line 2: "noise" is no quiet rule`,
		"[themes]\na = { version=\"1\", state=\"on\" }\nb = {version=\"1\", " +
			"state=\"on\"}\n": "two themes are on: a and b",
		"[plugins]\na = { from = \"ext::sh -c evil\" }\n": "names no component",
		"[core\n": "x, line 1:",
	} {
		_, err := Parse("x", []byte(src))
		assert.ErrorContains(t, err, want, src)
	}
	_, err := Parse("x", []byte("[core]\nversion = \"six\"\n[runtime]\nphp = \"8\"\n"))
	assert.Equal(t, 2, strings.Count(err.Error(), "x, line"), "all that is wrong is said at once")
}

func TestRanges(t *testing.T) {
	for _, c := range []struct {
		r, v string
		want bool
	}{
		{"2.4.1", "2.4.1", true}, {"2.4.1", "2.4.10", false}, {"2.4", "2.4.0", false}, {">=2.4 <3", "2.9.9", true},
		{">=2.4 <3", "3.0", false}, {">=2.4,<3", "2.4", true}, {"2.4.*", "2.4.7", true}, {"2.4.*", "2.40", false},
		{"~2.4.1", "2.4.9", true}, {"~2.4.1", "2.4.0", false}, {"~2.4.1", "2.5", false}, {"^2.4", "2.99", true},
		{"^2.4", "3", false}, {"newest", "1", true}, {"", "1", true}, {"<2", "2-beta1", true}, {">2", "2-beta1", false},
		{">1.0-rc1", "1.0", true},
	} {
		assert.Equal(t, c.want, Fits(c.r, c.v), "%s in %s", c.v, c.r)
		assert.NoError(t, CheckRange(c.r))
	}
	for _, bad := range []string{"two", ">", "1 2 x", "~", "<>1", "1..*x*"} {
		assert.Error(t, CheckRange(bad), bad)
	}
	v, ok := Choose("^2", []string{"3.0", "2.5", "2.4"})
	assert.True(t, ok)
	assert.Equal(t, "2.5", v)
}

func TestCommentsSurviveEditing(t *testing.T) {
	out, err := Set([]byte(sheet), "plugins", "tide-table", "^2.5")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(sheet, `"~2.4.1"`, `"^2.5"`, 1), string(out), "nothing else changes")
	out, err = Set([]byte(sheet), "plugins", "quay-forms", "1.1")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(sheet, `"1.0"`, `"1.1"`, 1), string(out))
	out, err = Set([]byte(sheet), "plugins", "buoy-map", "1.0")
	require.NoError(t, err)
	s, err := Parse("x", out)
	require.NoError(t, err)
	assert.Equal(t, "1.0", s.Plugins["buoy-map"].Version)
	assert.Len(t, s.Plugins, 4)
	_, err = Set([]byte(sheet), "plugins", "deck", "1.0")
	assert.ErrorContains(t, err, "edit it by hand")
	out, err = Set([]byte("about = \"x\"\n"), "themes", "a", "1")
	require.NoError(t, err)
	s, err = Parse("x", out)
	require.NoError(t, err)
	assert.Equal(t, "1", s.Themes["a"].Version)

	l := Lock{
		At:      time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
		Core:    "6.1.9",
		Plugins: map[string]Locked{"tide-table": {"2.4.1", "sha256:00"}},
	}
	once := WithLock([]byte(sheet), l)
	assert.True(t, strings.HasPrefix(string(once), sheet))
	l.Core = "6.2"
	twice := WithLock(once, l)
	assert.Equal(t, strings.Replace(string(once), "6.1.9", "6.2", 1), string(twice), "the lock is exchanged, not added")
	s, err = Parse("x", twice)
	require.NoError(t, err)
	assert.Equal(t, "2.4.1", s.Lock.Plugins["tide-table"].Version)
	assert.Contains(t, s.Explain(), "locked on 23 Nov 2026")
	out, err = Set(once, "plugins", "buoy-map", "1.0")
	require.NoError(t, err)
	s, err = Parse("x", out)
	require.NoError(t, err)
	assert.Equal(t, "1.0", s.Plugins["buoy-map"].Version)
	assert.NotContains(t, s.Lock.Plugins, "buoy-map")
}

func TestASiteIsPinnedAsItIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := &site.Facts{Core: "6.1.9"}
		slug := rapid.StringMatching(`[a-z0-9][a-z0-9_.-]{0,12}`)
		seen := map[string]bool{}
		for range rapid.IntRange(0, 6).Draw(t, "n") {
			if n := slug.Draw(t, "slug"); !seen[n] {
				seen[n] = true
				f.Plugins = append(
					f.Plugins,
					site.Component{
						Slug:    n,
						Version: rapid.StringMatching(`[0-9]{1,2}(\.[0-9]{1,2}){0,3}(-beta[0-9])?`).Draw(t, "version"),
						State:   rapid.SampledFrom([]string{"active", "off", "network"}).Draw(t, "state"),
					},
				)
			}
		}
		s, err := Parse("x", FromSite(site.Site{Name: `odd "name"`, Facts: f}, "8.2", time.Now()))
		if err != nil {
			t.Fatal(err)
		}
		if len(s.Plugins) != len(f.Plugins) {
			t.Fatalf("%d plugins of %d", len(s.Plugins), len(f.Plugins))
		}
		for _, c := range f.Plugins {
			if p := s.Plugins[c.Slug]; p.Version != c.Version || (p.State == "on") != (c.State != "off") ||
				!Exact(p.Version) ||
				!Fits(p.Version, c.Version) {
				t.Fatalf("%+v became %+v", c, p)
			}
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sheet))
	f.Add([]byte("[lock]\nat = 2026-11-23T00:00:00Z\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		s, err := Parse("x", src)
		if err != nil {
			return
		}
		_ = s.Explain()
		if out, err := Set(src, "plugins", "added", "1.0"); err == nil {
			if again, err := Parse("x", out); err == nil && again.Plugins["added"].Version == "" {
				t.Fatalf("what was set is not there:\n%s", out)
			}
		}
	})
}
