package stack

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"alibi/internal/tables"
)

func number(n int64) tables.Row {
	return tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: n}}}
}

// apply is what a cleanup makes of a table with the rows 0 to 9.
func apply(c Cleanup, rows []tables.Row) (out []tables.Row, there bool) {
	if c.Goes {
		return nil, false
	}
	for _, r := range rows {
		stay := !c.Empty
		if stay && c.Row != nil {
			r, stay = c.Row(r)
		}
		if stay {
			out = append(out, r)
		}
	}
	return append(out, c.Add...), true
}

func TestTwoCleanupsAreDoneAsOne(t *testing.T) {
	drop := func(of int64) func(tables.Row) (tables.Row, bool) {
		return func(r tables.Row) (tables.Row, bool) { return r, r.Values[0].Int%of != 0 }
	}
	add := func(n int64) func(tables.Row) (tables.Row, bool) {
		return func(r tables.Row) (tables.Row, bool) { return number(r.Values[0].Int + n), true }
	}
	rows := []func(tables.Row) (tables.Row, bool){nil, drop(2), drop(3), add(1), add(5)}
	rapid.Check(t, func(t *rapid.T) {
		make := func(name string) Cleanup {
			return Cleanup{
				Goes:  rapid.IntRange(0, 9).Draw(t, name+" goes") == 0,
				Empty: rapid.IntRange(0, 4).Draw(t, name+" empty") == 0,
				Row:   rows[rapid.IntRange(0, len(rows)-1).Draw(t, name)],
			}
		}
		a, b := make("first"), make("second")
		var all []tables.Row
		for n := range int64(10) {
			all = append(all, number(n))
		}
		want, there := apply(a, all)
		if there {
			want, there = apply(b, want)
		}
		got, is := apply(a.Then(b), all)
		if is != there || !assert.ObjectsAreEqual(want, got) {
			t.Fatalf("one after the other gives %v %v, as one %v %v", there, want, is, got)
		}
	})
	assert.False(t, Cleanup{}.Changes())
	both := Cleanup{Add: []tables.Row{number(1)}}.Then(Cleanup{Add: []tables.Row{number(2)}})
	assert.Equal(t, []tables.Row{number(1), number(2)}, both.Add)
}

func TestPagesAreOrderedForPeople(t *testing.T) {
	list := []Page{
		{Kind: "screen of plugins", Path: "/a", SignedIn: true},
		{Kind: "search", Path: "/?s=x"},
		{Kind: "first page", Path: "/"},
		{Kind: "archive", Path: "/b"},
	}
	SortPages(list)
	var kinds []string
	for _, p := range list {
		kinds = append(kinds, p.Kind)
	}
	assert.Equal(t, []string{"first page", "archive", "search", "screen of plugins"}, kinds)
}

func TestSwitchesThatDoNothing(t *testing.T) {
	assert.False(t, Switches{}.Any())
	assert.False(t, Switches{Except: []string{"a"}}.Any(), "leaving something on is no change by itself")
	for _, w := range []Switches{{On: []string{"a/a.php"}}, {Off: []string{"a"}}, {AllOff: true}, {Theme: "harbour"}} {
		assert.True(t, w.Any())
	}
}
