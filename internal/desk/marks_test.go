package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/pins"
	"alibi/internal/site"
)

func sheet(t *testing.T, text string) *pins.Sheet {
	t.Helper()
	s, err := pins.Parse("test", []byte(text))
	require.NoError(t, err)
	return s
}

func TestACellSaysHowItStandsToItsSheetAndItsOrigin(t *testing.T) {
	origin := &site.Facts{
		Core: "6.1.9",
		PHP:  "8.2.29",
		Plugins: []site.Component{
			{Slug: "tide-table", Version: "2.4.1", State: "active"},
			{Slug: "quay-forms", Version: "1.0", State: "off"},
		},
		Themes: []site.Component{{Slug: "harbour", Version: "1.2", State: "active"}},
	}
	s := site.Site{Name: "winter", Runtime: site.Runtime{PHP: "8.4"}, Facts: &site.Facts{Core: "6.8.12"}}
	x := &column{
		s:      s,
		origin: origin,
		unmet:  []string{"tide-table asks for PHP 8.5", "tide-table-extra asks for nothing"},
		sheet: sheet(
			t,
			"[core]\nversion = \"6.8.*\"\n[runtime]\nphp = \"8.4\"\n[plugins]\ntide-table = \"2.4.1\"\nquay-forms = "+
				"\">=2\"\nharbour-bell = { state = \"off\" }\n[themes]\nharbour = \"1.2\"\n",
		),
	}

	c := x.core()
	assert.Equal(t, []string{MarkFloating, MarkUnlike}, c.Marks)
	assert.Equal(t, []string{"its pin sheet says 6.8.*", "its origin has 6.1.9"}, c.Why)
	c = x.php()
	assert.Equal(t, "8.4", c.Version, "what the copy runs on")
	assert.Equal(t, []string{MarkPinned, MarkUnlike}, c.Marks)

	for _, k := range []struct {
		kind string
		c    site.Component
		want []string
	}{
		{
			"plugin", site.Component{Slug: "tide-table", Version: "2.4.1", State: "active"},
			[]string{MarkPinned, MarkUnmet},
		},
		{
			"plugin", site.Component{Slug: "tide-table", Version: "2.5.0", State: "active", Update: "3.0.0"},
			[]string{MarkUnpinned, MarkOutdated, MarkUnlike, MarkUnmet},
		},
		{
			"plugin", site.Component{Slug: "quay-forms", Version: "1.0", State: "active"},
			[]string{MarkUnpinned, MarkUnlike},
		},
		{
			"plugin", site.Component{Slug: "harbour-bell", Version: "1.0", State: "off"},
			[]string{MarkFloating, MarkUnlike},
		},
		{"plugin", site.Component{Slug: "gull-gallery", State: "off"}, []string{MarkFloating, MarkUnlike}},
		{"theme", site.Component{Slug: "harbour", Version: "1.2", State: "active"}, []string{MarkPinned}},
		{
			"theme", site.Component{Slug: "tide-table", Version: "2.4.1", State: "off"},
			[]string{MarkFloating, MarkUnlike, MarkUnmet},
		},
	} {
		got := x.component(k.kind, k.c)
		assert.Equal(t, k.want, got.Marks, "%s %v: %v", k.kind, k.c, got.Why)
		assert.Len(t, got.Why, len(got.Marks), "every mark says why")
	}
	assert.Equal(t, "?", x.component("plugin", site.Component{Slug: "gull-gallery"}).Version,
		"one without a version is there all the same")
	assert.Contains(t, x.component("plugin", site.Component{Slug: "quay-forms", Version: "1.0", State: "active"}).Why,
		"on its origin it is off")

	bare := &column{s: s}
	assert.Equal(t, []string{MarkFloating}, bare.core().Marks)
	assert.Equal(t, []string{MarkFloating}, bare.component("plugin", site.Component{Slug: "a", Version: "1"}).Marks)
	bare.s.Runtime.PHP = ""
	assert.Empty(t, bare.php().Marks, "nothing is said of a PHP that nobody knows")
}

func TestFamiliesStandTogether(t *testing.T) {
	all := map[site.ID]site.Site{
		"l":  {ID: "l", Name: "live"},
		"c":  {ID: "c", Name: "copy", Origin: "l"},
		"cc": {ID: "cc", Name: "copy of it", Origin: "c"},
		"x":  {ID: "x", Name: "orphan", Origin: "gone"},
		"a":  {ID: "a", Name: "ring", Origin: "b"},
		"b":  {ID: "b", Origin: "a"},
	}
	assert.Equal(t, "live", root(all, all["cc"]).Name)
	assert.Equal(t, 2, generation(all, all["cc"]))
	assert.Equal(t, "orphan", root(all, all["x"]).Name)
	assert.Equal(t, 16, generation(all, all["a"]), "a ring has an end")
}
