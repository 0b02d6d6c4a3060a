package desk

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"alibi/internal/site"
)

func TestAWorkListIsNetted(t *testing.T) {
	origin := &site.Facts{
		Plugins: []site.Component{
			{Slug: "tide-table", Version: "2.4.1", State: "active"},
			{Slug: "old-slider", Version: "1.0", State: "off"},
		},
		Themes: []site.Component{{Slug: "harbour", State: "active"}},
	}
	list := []Deed{
		{ID: "update", acts: []act{{install, "tide-table", "tide-table@2.5.0"}}},
		{ID: "again", acts: []act{{install, "tide-table", "tide-table@2.6.0"}}},
		{ID: "off", acts: []act{{switchOff, "tide-table", ""}, {switchOff, "old-slider", ""}}},
		{ID: "tried", acts: []act{{install, "fog-horn", "fog-horn@1.0"}}},
		{ID: "not wanted", acts: []act{{uninstall, "fog-horn", ""}}},
		{ID: "theme", acts: []act{{switchTheme, "plain", ""}}},
		{ID: "back", acts: []act{{switchTheme, "harbour", ""}}},
		{ID: "edit", acts: []act{{carryPath, "a.css", ""}}},
		{ID: "edit again", acts: []act{{carryPath, "a.css", ""}, {carryPath, "b.css", ""}}},
		{ID: "gone", Undone: true, acts: []act{{carryPath, "b.css", ""}}},
		{ID: "went home", acts: []act{{carryPath, "c.css", ""}}},
		{ID: "by hand", Text: "moved the menu"},
	}
	netted(list, site.Site{Name: "winter"}, "live", origin, func(a act, _ time.Time) bool { return a.what == "c.css" })
	left := map[string][]string{}
	for _, x := range list {
		if !x.Settled && !x.Undone {
			left[x.ID] = x.Commands
		}
	}
	assert.Equal(t, map[string][]string{
		"again":      {"alibi install live tide-table@2.6.0"},
		"off":        {"alibi switch live --off tide-table"},
		"edit again": {"alibi carry winter a.css live", "alibi carry winter b.css live"},
		"by hand":    nil,
	}, left)
}
