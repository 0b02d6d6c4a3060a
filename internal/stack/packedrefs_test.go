package stack

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/tables"
)

// Numbers at a place in a packed value get others, and nothing else of it is touched.
func TestNumbersInPackedValuesAreFollowed(t *testing.T) {
	table := tables.Table{Name: "t", Columns: []tables.Column{{Name: "v"}}}
	next := func(n int64) int64 { return n + 100 }
	for _, c := range []struct{ path, was, is string }{
		{"image", `a:2:{s:5:"image";i:7;s:4:"wide";i:7;}`, `a:2:{s:5:"image";i:107;s:4:"wide";i:7;}`},
		{"*.image", `a:1:{i:3;a:1:{s:5:"image";s:3:"7,8";}}`, `a:1:{i:3;a:1:{s:5:"image";s:7:"107,108";}}`},
		{"0", `O:4:"Tide":1:{s:1:"a";i:7;}`, `O:4:"Tide":1:{s:1:"a";i:7;}`},
		{"a", `O:4:"Tide":1:{s:1:"a";i:7;}`, `O:4:"Tide":1:{s:1:"a";i:107;}`},
		{"a", `a:1:{s:1:"a";s:4:"a 7b";}`, `a:1:{s:1:"a";s:4:"a 7b";}`},
		{"a", `a:1:{s:1:"a";i:7;`, `a:1:{s:1:"a";i:7;`},
		{"slides.*.image", ` { "slides" : [ {"image": 7, "n":7}, {"image":"8"} ] , "x": 7}`,
			` { "slides" : [ {"image": 107, "n":7}, {"image":"108"} ] , "x": 7}`},
		{"1", `[7, 7, 7]`, `[7, 107, 7]`},
		{"*", `{"a":1.5,"b":null,"c":[7],"d":"x","e":-7}`, `{"a":1.5,"b":null,"c":[7],"d":"x","e":-7}`},
		{"a.b", `{"a":7}`, `{"a":7}`},
		{"a", `{"a":7`, `{"a":7`},
		{"a", "7", "7"},
	} {
		r := tables.Row{Values: []tables.Value{{Kind: tables.Text, Bytes: []byte(c.was)}}}
		referAt(table, r, "v", c.path, next)
		assert.Equal(t, c.is, r.Values[0].String(), c.path)
	}
	referAt(table, tables.Row{Values: []tables.Value{{Kind: tables.Null}}}, "v", "a", next)
	referAt(table, tables.Row{}, "other", "a", next)
	for text, right := range map[string]bool{"": true, "a.*.b": true, "a..b": false, ".a": false} {
		assert.Equal(t, right, isPath(text), text)
	}
}
