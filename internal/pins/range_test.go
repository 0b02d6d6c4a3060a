package pins_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/pins"
)

func version(t *rapid.T, name string) string {
	return fmt.Sprintf("%d.%d.%d", rapid.IntRange(0, 4).Draw(t, name+" major"),
		rapid.IntRange(0, 12).Draw(t, name+" minor"), rapid.IntRange(0, 12).Draw(t, name+" patch"))
}

// What a range means does not depend on how it is written.
func TestRangesAgreeWithEachOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v, at := version(t, "v"), version(t, "at")
		assert.True(t, pins.Fits(v, v))
		assert.Equal(t, pins.Fits(">="+at, v), !pins.Fits("<"+at, v))
		assert.Equal(t, pins.Fits("<="+at, v), !pins.Fits(">"+at, v))
		assert.Equal(t, v == at, pins.Fits(">="+at+" <="+at, v))
		parts := strings.Split(at, ".")
		var major, minor int
		_, _ = fmt.Sscan(parts[0], &major)
		_, _ = fmt.Sscan(parts[1], &minor)
		assert.Equal(t, pins.Fits(fmt.Sprintf(">=%s <%d.%d", at, major, minor+1), v), pins.Fits("~"+at, v),
			"~%s and %s", at, v)
		assert.Equal(t, pins.Fits(fmt.Sprintf(">=%s, <%d", at, major+1), v), pins.Fits("^"+at, v), "^%s and %s", at, v)
		assert.Equal(t, strings.HasPrefix(v+".", parts[0]+"."+parts[1]+"."), pins.Fits(parts[0]+"."+parts[1]+".*", v))
		for _, any := range []string{"", "newest"} {
			assert.True(t, pins.Fits(any, v))
		}
		for _, r := range []string{at, ">=" + at, "~" + at, "^" + at, at + ".*", ">" + at + " <9"} {
			assert.NoError(t, pins.CheckRange(r))
		}
		assert.True(t, pins.Exact(at))
	})
	for _, r := range []string{"", "newest", ">=1", "1.*", "~1", "^1", "1 2", "1,2", "=1.2"} {
		assert.False(t, pins.Exact(r), r)
	}
}

// Of what a catalogue has, the newest that fits is chosen, whatever its order.
func TestTheNewestThatFitsIsChosen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []string
		for i := range rapid.IntRange(0, 8).Draw(t, "n") {
			list = append(list, version(t, fmt.Sprint(i)))
		}
		r := rapid.SampledFrom([]string{"newest", ">=2", "<2", "1.*", "^3.1", "~2.4.1"}).Draw(t, "range")
		got, ok := pins.Choose(r, list)
		some := false
		for _, v := range list {
			some = some || pins.Fits(r, v)
			if ok && pins.Fits(r, v) {
				assert.True(t, pins.Fits(">="+v, got), "%s is not older than %s", got, v)
			}
		}
		assert.Equal(t, some, ok)
		if ok {
			assert.Contains(t, list, got)
			assert.True(t, pins.Fits(r, got))
		}
	})
}

// Setting a version changes that version and nothing else, and can be done again.
func TestSettingAVersionChangesNothingElse(t *testing.T) {
	const sheet = "# of the harbour\nabout = \"x\"\n\n[plugins] # what is on\ntide-table = \"2.4.1\" # kept " +
		"back\nbell = { version = \"1\", state = \"off\" }\n\n[themes]\nharbour = \"3.1\"\n"
	rapid.Check(t, func(t *rapid.T) {
		slug := rapid.SampledFrom([]string{"tide-table", "bell", "new-one"}).Draw(t, "slug")
		to := rapid.SampledFrom([]string{"9.9", ">=2 <3", "newest", "~1.2"}).Draw(t, "to")
		out, err := pins.Set([]byte(sheet), "plugins", slug, to)
		require.NoError(t, err)
		s, err := pins.Parse("x", out)
		require.NoError(t, err, string(out))
		assert.Equal(t, to, s.Plugins[slug].Version)
		was, err := pins.Parse("x", []byte(sheet))
		require.NoError(t, err)
		for name, p := range was.Plugins {
			if name != slug {
				assert.Equal(t, p, s.Plugins[name])
			}
		}
		assert.Equal(t, was.Plugins["bell"].State, s.Plugins["bell"].State)
		for _, comment := range []string{"# of the harbour", "# what is on", "# kept back"} {
			assert.Contains(t, string(out), comment)
		}
		again, err := pins.Set(out, "plugins", slug, to)
		require.NoError(t, err)
		assert.Equal(t, string(out), string(again))
	})
}

func TestExtensionsAndSettingsOfASheet(t *testing.T) {
	s, err := pins.Parse(
		"x",
		[]byte("[runtime]\nextensions = [\"intl\", \"-gd\"]\n[settings]\nquiet = []\ndebug = "+
			"true\n[ballast]\nposts = 2\n"),
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"intl", "-gd"}, s.Runtime.Extensions)
	assert.Empty(t, *s.Settings.Quiet)
	for text, want := range map[string]string{
		"[runtime]\nextensions = [\"a/b\"]\n":                        "line 2: \"a/b\" is no extension",
		"[runtime]\nseconds = -3\n":                                  "line 2: -3 seconds",
		"[ballast]\nboats = 1\n":                                     "line 2: there is no ballast of 1 boats",
		"[settings]\nupdates = \"always\"\n":                         "line 2: updates are off, core or all",
		"others = \"burn\"\n":                                        "line 1: others are left",
		"[settings]\nquiet = [\"noise\"]\n":                          "line 2: \"noise\" is no quiet rule",
		"[themes]\na = { state = \"on\" }\nb = { state = \"on\" }\n": "two themes are on: a and b",
		"[plugins]\nx = { digest = \"md5:1\" }\n":                    "a digest begins with sha256:",
		"[plugins]\nx = 3\n":                                         "write its version as a text",
	} {
		_, err := pins.Parse("x", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestTwoNumbersOfACoreAreItsBranch(t *testing.T) {
	for _, c := range []struct {
		sheet, is string
		fits      bool
	}{{"6.8", "6.8", true}, {"6.8", "6.8.12", true}, {"6.8", "6.80", false}, {"6.8", "6.7.9", false},
		{"6.8.1", "6.8.12", false}, {"=6.8", "6.8.12", false}, {"=6.8", "6.8", true}} {
		assert.Equal(t, c.fits, pins.Fits(pins.OfCore(c.sheet, c.is), c.is), "%s and %s", c.sheet, c.is)
	}
}
