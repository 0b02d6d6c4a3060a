package tables

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func text(s string) Value { return Value{Kind: Text, Bytes: []byte(s)} }

func digest(vals ...Value) Digest {
	d, _ := Row{Values: vals}.Digest(nil)
	return d
}

func TestRowsThatDifferHaveDifferentDigests(t *testing.T) {
	rows := [][]Value{
		{},
		{{Kind: Null}},
		{text("")},
		{{Kind: Blob, Bytes: []byte{}}},
		{text("a"), text("b")},
		{text("ab"), text("")},
		{text("ab")},
		{{Kind: Blob, Bytes: []byte("ab")}},
		{{Kind: Int, Int: 1}},
		{{Kind: Float, Float: 1}},
		{text("1")},
		{{Kind: Int, Int: -1}},
		{{Kind: Float, Float: math.Copysign(0, -1)}},
		{{Kind: Float, Float: 0}},
		{{Kind: Int, Int: 0}},
	}
	seen := map[Digest]int{}
	for i, r := range rows {
		d := digest(r...)
		if j, ok := seen[d]; ok {
			t.Errorf("rows %d and %d have the same digest", i, j)
		}
		seen[d] = i
	}
}

func TestASetsDigestKnowsNoOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := rapid.SliceOfN(rapid.String(), 1, 20).Draw(t, "rows")
		shuffled := rapid.Permutation(rows).Draw(t, "shuffled")
		var a, b Digest
		for i := range rows {
			a.Add(digest(text(rows[i])))
			b.Add(digest(text(shuffled[i])))
		}
		assert.Equal(t, a, b)
		c := a
		c.Add(digest(text(rows[0])))
		assert.NotEqual(t, a, c, "a row that is there twice counts twice")
	})
}

func TestADigestUsesTheRoomThatItIsGiven(t *testing.T) {
	r := Row{Values: []Value{text("some text that takes room"), {Kind: Int, Int: 7}}}
	_, buf := r.Digest(nil)
	assert.Zero(t, testing.AllocsPerRun(50, func() { _, buf = r.Digest(buf) }))
	assert.Len(t, Digest{1, 2}.String(), 32)
}

func TestValuesForPeople(t *testing.T) {
	for want, v := range map[string]Value{
		"NULL": {},
		"-7":   {Kind: Int, Int: -7},
		"1.5":  {Kind: Float, Float: 1.5},
		"abc":  text("abc"),
		"bin":  {Kind: Blob, Bytes: []byte("bin")},
	} {
		assert.Equal(t, want, v.String())
	}
	assert.Equal(t, "3, x", Row{Key: []Value{{Kind: Int, Int: 3}, text("x")}}.Address())
}

func TestSchemaLookups(t *testing.T) {
	s := Schema{Tables: []Table{{Name: "posts", Columns: []Column{{Name: "ID"}, {Name: "title"}}}}}
	tab, ok := s.Table("posts")
	assert.True(t, ok)
	assert.Equal(t, 1, tab.Column("title"))
	assert.Equal(t, -1, tab.Column("none"))
	_, ok = s.Table("none")
	assert.False(t, ok)
}

func TestATallyTellsReadingsApart(t *testing.T) {
	a, b, c := Tally{}, Tally{}, Tally{}
	for i := range uint64(5) {
		a.Add("posts", Digest{i, 9})
		b.Add("posts", Digest{4 - i, 8})
		c.Add("pages", Digest{i, 9})
	}
	assert.Equal(t, a.String(), b.String(), "in any order")
	assert.NotEqual(t, a.String(), c.String(), "another table")
	assert.Contains(t, a.String(), "5 rows ")
	b.Add("posts", Digest{})
	assert.NotEqual(t, a.String(), b.String(), "one row more")
}

func TestKeptValuesAreTheirOwn(t *testing.T) {
	room := []byte("abc")
	kept := Keep([]Value{{Kind: Text, Bytes: room}, {Kind: Int, Int: 3}})
	room[0] = 'x'
	assert.Equal(t, "abc", kept[0].String())
	assert.Equal(t, "3", kept[1].String())
}
