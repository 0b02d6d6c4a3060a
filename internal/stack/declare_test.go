package stack

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

const tides = `component = "Tide Table"

[[table]]
name = "tides"
kind = "tide"
title = "harbour"
counted = ["views"]
[table.refers]
page = "posts"
above = "tides"

[[table]]
name = "tide_log"
passing = true

[[field]]
of = "posts"
key = "tides"
refers = "tides"

[[setting]]
name = "tide_page"
refers = "posts"
`

func TestADeclarationIsChecked(t *testing.T) {
	d, err := ParseDeclaration("tides.toml", []byte(tides))
	require.NoError(t, err)
	assert.Equal(t, "Tide Table", d.Component)
	for text, want := range map[string]string{
		"component = 1":                                                "tides.toml, line 1: ",
		"component = \"x\"\n\ncolour = 1":                              `line 3: there is nothing called "colour" in`,
		"[[table]]\nname = \"a\"\nkind = \"b\"":                        "tides.toml, line 1: component says what it is about",
		"component = \"x\"\n[[table]]\nname = \"posts\"\nkind = \"b\"": "line 2: posts is the CMS's own",
		"component = \"x\"\n[[table]]\nname = \"a\"\nkind = \"post\"":  `line 2: there are things called "post" already`,
		"component = \"x\"\n[[table]]\nname = \"a\"\nkind = \"A b\"":   `line 2: kind is what people call a row`,
		"component = \"x\"\n[[table]]\nname = \"a b\"":                 "line 2: name is that of a table",
		"component = \"x\"\n[[table]]\nname = \"a\"\nkind = \"b\"\n[table.refers]\nc = \"boats\"": "line 2: c " +
			`refers to "boats"`,
		"component = \"x\"\n[[field]]\nof = \"boats\"":                            "line 2: of is what has the field",
		"component = \"x\"\n\n\n[[setting]]\nrefers = \"posts\"":                  "line 4: name is the setting's",
		"component = \"x\"\n[[setting]]\nname = \"a\"\n[[setting]]\nname = \"b\"": `line 4: it refers to ""`,
	} {
		_, err := ParseDeclaration("tides.toml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// fields are items of a stack that knows of fields only.
type fields struct{ noItems }

func (fields) Field(_ string, t tables.Table, r tables.Row) (of, key, column string) {
	if t.Name == "sk_postmeta" {
		return "posts", r.Values[1].String(), "value"
	}
	return OfSettings, r.Values[1].String(), "value"
}

func (fields) Looks(Around, tables.Table, tables.Row) []int64 { return []int64{1} }

func TestWhatIsDeclaredIsFollowed(t *testing.T) {
	d, err := ParseDeclaration("tides.toml", []byte(tides))
	require.NoError(t, err)
	items := declared{fields{}, []Declaration{d}}
	row := func(table string, cells ...any) (tables.Table, tables.Row) {
		tab, r := tables.Table{Name: table, Key: []string{"id"}}, tables.Row{}
		for i := 0; i < len(cells); i += 2 {
			v := tables.Value{Kind: tables.Text, Bytes: []byte(fmt.Sprint(cells[i+1]))}
			if n, ok := cells[i+1].(int); ok {
				v = tables.Value{Kind: tables.Int, Int: int64(n)}
			}
			tab.Columns, r.Values = append(tab.Columns, tables.Column{Name: cells[i].(string)}), append(r.Values, v)
		}
		r.Key = r.Values[:1]
		return tab, r
	}
	for name, c := range map[string]struct {
		table string
		cells []any
		want  string
		after string
	}{
		"a table":         {"sk_tides", []any{"id", 3, "above", 0, "page", "7"}, "sk_posts 7 sk_tides 3 ", "1007"},
		"of another site": {"sk_2_tides", []any{"id", 3, "page", 7}, "sk_2_posts 7 sk_2_tides 3 ", "1007"},
		"a field": {"sk_postmeta", []any{"id", 1, "key", "tides", "value", "3, 4"}, "sk_tides 3 sk_tides 4 ",
			"1003, 1004"},
		"another field": {"sk_postmeta", []any{"id", 1, "key", "boats", "value", "3, 4"}, "", "3, 4"},
		"a setting":     {"sk_options", []any{"id", 1, "key", "tide_page", "value", "9"}, "sk_posts 9 ", "1009"},
		"no number":     {"sk_options", []any{"id", 1, "key", "tide_page", "value", "none"}, "", "none"},
	} {
		tab, r := row(c.table, c.cells...)
		seen := map[string]bool{}
		items.References(Around{Prefix: "sk_"}, tab, r, func(table string, n int64) int64 {
			seen[fmt.Sprintf("%s %d ", table, n)] = true
			return n + 1000
		})
		got := ""
		for _, s := range []string{"sk_posts 7 ", "sk_2_posts 7 ", "sk_posts 9 ", "sk_tides 3 ", "sk_2_tides 3 ",
			"sk_tides 4 "} {
			if seen[s] {
				got += s
			}
		}
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.after, r.Values[len(r.Values)-1].String(), name)
	}
	tab, r := row("sk_2_tides", "id", 3, "harbour", "Ness", "views", 9)
	assert.Equal(t, "tide:2/3", items.ItemOf("sk_", tab, r))
	assert.Equal(t, Described{Root: true, Kind: "tide", Called: "Ness"}, items.Describe("sk_", tab, r))
	assert.True(t, items.Numbered("sk_", "sk_tides"))
	assert.False(t, items.Numbered("sk_", "sk_boats"))
	assert.True(t, items.Cached("sk_", tab, "views"))
	assert.False(t, items.Cached("sk_", tab, "harbour"))
	assert.Empty(t, items.Looks(Around{Prefix: "sk_"}, tab, r))
	assert.True(t, items.passes("sk_", "sk_tide_log"))
	tab, r = row("sk_boats", "id", 3, "key", "x")
	assert.NotEmpty(t, items.Looks(Around{Prefix: "sk_"}, tab, r))
	assert.Equal(t, "row:sk_boats/3", items.ItemOf("sk_", tab, r))
}
