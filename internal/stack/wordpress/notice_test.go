package wordpress

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/site"
	"alibi/internal/tables"
)

func TestOnlyTheSitesOwnTables(t *testing.T) {
	s := tables.Schema{}
	for _, n := range []string{"wp_options", "wp_posts", "wp_2_options", "wp_2_posts", "wp_shop_options",
		"wp_shop_posts", "wp_shop_log", "wp_log", "other"} {
		s.Tables = append(s.Tables, tables.Table{Name: n})
	}
	owns := Stack{}.Owns(s, "wp_")
	for n, want := range map[string]bool{"wp_options": true, "wp_2_posts": true, "wp_log": true,
		"wp_shop_options": false, "wp_shop_log": false, "other": false} {
		assert.Equal(t, want, owns(n), n)
	}
	assert.True(t, Stack{}.Owns(s, "wp_shop_")("wp_shop_log"))
}

func TestNoticesRunNothingThatPeopleWrite(t *testing.T) {
	page := func(f site.Front) string { return string(Stack{}.Notice(f)["wp-content/maintenance.php"]) }
	p := page(site.Front{Kind: site.FrontParked, Text: "<?php evil(); ?><script>", Contact: "javascript:alert(1)"})
	assert.Equal(t, 1, strings.Count(p, "<?php"), "but for its own head")
	assert.NotContains(t, p, "<script>")
	assert.NotContains(t, p, "href=")
	assert.Contains(t, page(site.Front{Kind: site.FrontParked, Contact: "harbour@quay.example"}),
		`href="mailto:harbour@quay.example"`)
	assert.Contains(t, page(site.Front{Kind: site.FrontParked, Contact: "https://quay.example/contact"}),
		`href="https://quay.example/contact"`)
	assert.Len(t, Stack{}.Notice(site.Front{Kind: site.FrontMaintenance}), 1)
}

func TestTheBareThemeIsTheNewestOfTheCores(t *testing.T) {
	f := site.Facts{
		Themes: []site.Component{
			{Slug: "plainsail", State: "active"},
			{Slug: "twentytwenty"},
			{Slug: "twentynineteen"},
			{Slug: "twentytwentyfive", State: "missing"},
		},
	}
	assert.Equal(t, "twentytwenty", Stack{}.BareTheme(f))
	assert.Equal(t, "plainsail", Stack{}.BareTheme(site.Facts{Themes: f.Themes[:1]}))
	assert.Empty(t, Stack{}.BareTheme(site.Facts{}))
}
