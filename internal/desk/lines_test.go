package desk

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/ballast"
	"alibi/internal/catalogue"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

func TestALogIsCutIntoEntries(t *testing.T) {
	got := entries(
		"errors",
		`[28-Nov-2026 10:00:00 UTC] PHP Fatal error:  Uncaught TypeError: x in /srv/w/wp-content/a.php:3
Stack trace:
#0 /srv/w/wp-includes/b.php(356): c()
  thrown in /srv/w/wp-content/a.php on line 3
[28-Nov-2026 10:00:01 UTC] PHP Warning:  Undefined key in /srv/w/a.php on line 1

PHP Parse error:  syntax error, unexpected ")" in /srv/w/b.php
[28-Nov-2026 10:00:02 UTC] PHP Recoverable fatal error:  y
[28-Nov-2026 10:00:03 UTC] something that a plugin says
`,
		"/srv/w",
	)
	var kinds []string
	for _, l := range got {
		kinds = append(kinds, l.Kind)
	}
	assert.Equal(t, []string{"fatal", "warning", "parse", "fatal", "other"}, kinds)
	assert.Equal(t, 4, strings.Count(got[0].Text, "\n")+1, "a trace belongs to its error")
	assert.NotContains(t, got[0].Text, "/srv/w/", "paths are below the site's folder")
	assert.True(t, strings.HasPrefix(got[1].Text, "[28-Nov-2026 10:00:01 UTC] Undefined key"), got[1].Text)
	assert.Equal(t, "[28-Nov-2026 10:00:03 UTC] something that a plugin says", got[4].Text)
	assert.Equal(t, []LogLine{{"other", "half a line of before"}},
		entries("errors", "half a line of before\n", "/srv/w"))
	assert.Empty(t, entries("errors", "", "/srv/w"))

	got = entries(
		"access",
		"127.0.0.1 - - [x] \"GET / HTTP/1.1\" 200 18 \"-\" \"M\"\n127.0.0.1 - - [x] \"GET /a HTTP/1.1\" 503 18 \"-\" "+
			"\"M\"\nnonsense\n",
		"/srv/w",
	)
	assert.Equal(t, []string{"2xx", "5xx", "other"}, []string{got[0].Kind, got[1].Kind, got[2].Kind})
	assert.Equal(t, []string{"warning", "fatal", "notice"},
		Log{Kinds: map[string]int{"notice": 1, "fatal": 2, "warning": 5}}.KindsOf())
}

func TestRowsAreChosenAndWritten(t *testing.T) {
	tab := tables.Table{Columns: []tables.Column{{Name: "id"}, {Name: "title"}}}
	row := tables.Row{
		Values: []tables.Value{{Kind: tables.Int, Int: 17}, {Kind: tables.Text, Bytes: []byte("The Quay")}},
	}
	for _, c := range []struct {
		w    Where
		want bool
	}{
		{Where{}, true}, {Where{Text: "quay"}, true}, {Where{Text: "17"}, true}, {Where{Text: "pier"}, false},
		{Where{Column: "id", Text: "quay"}, false}, {Where{Column: "title", Text: "QUAY"}, true},
		{Where{Column: "title", Text: "quay", Exact: true}, false},
		{Where{Column: "title", Text: "The Quay", Exact: true}, true}, {Where{Column: "title", Exact: true}, false},
		{Where{Column: "nowhere", Text: "quay"}, false},
	} {
		assert.Equal(t, c.want, c.w.takes(tab, row), "%+v", c.w)
	}
	assert.Nil(t, cell(tables.Value{}))
	assert.Equal(t, "0x00ff", *cell(tables.Value{Kind: tables.Text, Bytes: []byte{0, 255}}),
		"what is no text is written in hexadecimal")
	assert.Equal(t, "NULL", Short(nil, 9))
	long := "two\nlines and a bell\a, longer than that"
	assert.Equal(t, "two lines and...", Short(&long, 16))
	assert.Equal(t, "two lines and a bell?, longer than that", Short(&long, 60))

	quote, empty := `he said "ahoy", twice`+"\nand left", ""
	r := Rows{Columns: []string{"a", "b"}, Rows: [][]Cell{{&quote, nil}, {&empty, &quote}}}
	var b bytes.Buffer
	require.NoError(t, r.CSV(&b))
	back, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"a", "b"}, {quote, ""}, {"", quote}}, back)
}

func changed(t *testing.T, c reset.Change) plan.Run {
	t.Helper()
	detail, err := json.Marshal(reset.Choices{Change: &c})
	require.NoError(t, err)
	return plan.Run{
		ID:    "r1",
		Began: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
		Plan:  plan.Plan{Kind: plan.Change, By: "runa", Words: c.Words, Detail: detail},
	}
}

func TestADeedSaysHowItIsRepeated(t *testing.T) {
	s := site.Site{Name: "winter"}
	put := func(x site.Source) catalogue.Package { return catalogue.Package{Source: x} }
	x, ok := deed(changed(t, reset.Change{Words: "bring many things", Put: []catalogue.Package{
		put(site.Source{Kind: site.Plugin, Slug: "tide-table", Version: "2.5.0"}),
		put(site.Source{Kind: site.Theme, Slug: "slipway-plain", Version: "1.0"}),
		put(site.Source{Kind: site.Plugin, Slug: "fares", From: "https://code.skerryline.example/fares.git",
			Ref: "main"}),
		put(site.Source{Kind: site.Plugin, Slug: "bell", From: "site:crew"}),
		put(site.Source{Kind: site.Plugin, Slug: "box", From: "/srv/box.zip"}),
		put(site.Source{Kind: site.Core, Version: "6.8.12"})},
		Switch: stack.Switches{
			On:    []string{"tide-table/tide-table.php", "quay.php"},
			Off:   []string{"old-slider"},
			Theme: "slipway-plain",
		}, Remove: []string{"wp-content/plugins/gone"},
		Carry: []reset.Carry{
			{Path: "wp-content/it's a style.css"},
		}, Edit: []reset.Edit{{Path: "wp-content/b.css"}}, Runtime: &site.Runtime{PHP: "8.4"}}), s,
		"skerryline.example")
	require.True(t, ok)
	assert.Equal(t, []string{
		"alibi install skerryline.example tide-table@2.5.0",
		"alibi install skerryline.example slipway-plain@1.0 --theme",
		"alibi install skerryline.example https://code.skerryline.example/fares.git#main",
		"alibi install skerryline.example site:crew/bell", "alibi install skerryline.example /srv/box.zip",
		"alibi switch skerryline.example --on quay", "alibi switch skerryline.example --off old-slider",
		"alibi switch skerryline.example --theme slipway-plain",
		"alibi uninstall skerryline.example gone",
		`alibi carry winter 'wp-content/it'\''s a style.css' skerryline.example`,
		"alibi carry winter wp-content/b.css skerryline.example",
	}, x.Commands, "what is installed is not activated a second time")
	assert.Contains(t, x.Text, "the core of a live site is updated by its own page")
	assert.Contains(t, x.Text, "the runtime of a live site is its host's")
	for name, c := range map[string]reset.Change{"scrub": {Scrub: true}, "caches": {Caches: true},
		"ballast": {Ballast: &ballast.Load{}}, "account": {Account: &stack.AccountWish{}}} {
		_, ok := deed(changed(t, c), s, "x")
		assert.False(t, ok, "%s is for the copy alone", name)
	}
	_, ok = deed(plan.Run{Plan: plan.Plan{Kind: plan.Restore}}, s, "x")
	assert.False(t, ok)

	var b bytes.Buffer
	WriteDeeds(
		&b,
		s,
		[]Deed{
			{Text: "one", Who: "runa", Commands: []string{"alibi x"}},
			{Text: "undone", Undone: true},
			{Text: "two", Repeated: true},
		},
	)
	assert.Contains(t, b.String(), "- [ ] one (1 Jan 0001 00:00, runa)\n      alibi x\n- [x] two")
	assert.NotContains(t, b.String(), "undone")
}
