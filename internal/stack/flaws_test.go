package stack

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/tables"
)

func TestWhatIsMadeOfARowIsLookedAtOnceMore(t *testing.T) {
	from, err := site.ParseAddress("https://ferry.example")
	require.NoError(t, err)
	to, err := site.ParseAddress("http://near.localhost:7700")
	require.NoError(t, err)
	r, err := rewrite.New([]rewrite.Pair{{From: from, To: to}}, nil)
	require.NoError(t, err)
	x := &Transform{Stack: adjusting{}, Change: Change{Rewriter: r}}
	tab := tables.Table{
		Name:    "t",
		Key:     []string{"id"},
		Columns: []tables.Column{{Name: "id"}, {Name: "a"}, {Name: "b"}},
	}
	text := func(s string) tables.Value { return tables.Value{Kind: tables.Text, Bytes: []byte(s)} }
	one := tables.Value{Kind: tables.Int, Int: 1}
	row := func(a, b string) tables.Row {
		return tables.Row{Key: []tables.Value{one}, Values: []tables.Value{one, text(a), text(b)}}
	}
	var c Changed
	good := row(`a:1:{i:0;s:21:"https://ferry.example";}`, "plain")
	x.Watched(tab, good, &c)
	assert.Equal(t, Changed{Addresses: 1}, c)
	assert.Equal(t, `a:1:{i:0;s:26:"http://near.localhost:7700";}`, good.Values[1].String())

	c = Changed{}
	x.Watched(tab, row("spoil", "s:3:\"abc\";"), &c)
	assert.Equal(t, []Kept{{"t", "1", "a", rewrite.Clean}}, c.Left, "what puts an address of the origin's in is seen")
	assert.Equal(t, []Kept{{"t", "1", "b", rewrite.Broken}}, c.Invalid, "and what breaks a value")
	assert.Equal(t, "t, row 1, a", c.Left[0].String())

	c = Changed{}
	broken := row(`s:99:"https://ferry.example";`, `s:9:"x";`)
	x.Watched(tab, broken, &c)
	assert.Empty(t, c.Invalid, "what was broken before is no damage")
	assert.Len(t, c.Kept, 1)
	left, kept := x.Left(tab, broken)
	assert.Empty(t, left)
	assert.Len(t, kept, 1)
	assert.Len(t, Invalid(tab, broken), 2)

	notes, err := Notes(map[string]Changed{"t": c})
	require.NoError(t, err)
	back, err := FromNotes(notes)
	require.NoError(t, err)
	assert.Equal(t, map[string]Changed{"t": c}, back)
	var sum Changed
	sum.Add(c)
	sum.Add(c)
	assert.Len(t, sum.Kept, 2)
	_, err = FromNotes(map[string]json.RawMessage{"t": json.RawMessage("{")})
	assert.ErrorContains(t, err, "what was done to t")
}

// adjusting is a stack that does harm.
type adjusting struct{ plainStack }

func (adjusting) Adjust(_ Change, _ tables.Table, r tables.Row) int {
	if r.Values[1].String() == "spoil" {
		r.Values[1].Bytes, r.Values[2].Bytes = []byte("see https://ferry.example/"), []byte(`s:4:"abc";`)
	}
	return 0
}
