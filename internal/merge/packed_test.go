package merge

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/phpval"
)

func TestPackedValuesAreMergedByTheirParts(t *testing.T) {
	for name, c := range map[string]struct{ was, a, b, want string }{
		"two keys":        {`{"a": 1, "b": 2}`, `{"a": 3, "b": 2}`, `{"a": 1, "b": 4}`, `{"a":3,"b":4}`},
		"one key":         {`{"a": 1}`, `{"a": 2}`, `{"a": 3}`, ""},
		"the same change": {`{"a": 1, "c": 1}`, `{"a": 2, "c": 1}`, `{"a": 2, "c": 2}`, `{"a":2,"c":2}`},
		"deeper":          {`{"x":{"a":1,"b":2}}`, `{"x":{"a":9,"b":2}}`, `{"x":{"a":1,"b":8}}`, `{"x":{"a":9,"b":8}}`},
		"made by both":    {`{}`, `{"a":1}`, `{"a":2}`, ""},
		"made by each":    {`{"z":0}`, `{"z":0,"a":1}`, `{"z":0,"b":2}`, `{"z":0,"a":1,"b":2}`},
		"taken and kept":  {`{"a":1,"b":2}`, `{"b":2}`, `{"a":1,"b":3}`, `{"b":3}`},
		"taken, changed":  {`{"a":1,"b":2}`, `{"b":2}`, `{"a":5,"b":2}`, ""},
		"changed, taken":  {`{"a":1,"b":2}`, `{"a":5,"b":2}`, `{"b":2}`, ""},
		"a set":           {`[1,2,3]`, `[1,3,4]`, `[1,2,3,5]`, `[1,3,4,5]`},
		"rows of a list":  {`[{"a":1},{"a":2}]`, `[{"a":5},{"a":2}]`, `[{"a":1},{"a":6}]`, `[{"a":5},{"a":6}]`},
		"longer lists":    {`[{"a":1}]`, `[{"a":1},{"a":2}]`, `[{"a":1},{"a":3}]`, ""},
		"another kind":    {`{"a":1}`, `[1]`, `{"a":2}`, ""},
		"a cut-off value": {`{"a":1}`, `{"a":`, `{"a":2}`, ""},
		"big numbers stay": {`{"a":12345678901234567890,"b":1}`, `{"a":12345678901234567890,"b":2}`,
			`{"a":12345678901234567890,"b":1,"c":1.50}`, `{"a":12345678901234567890,"b":2,"c":1.50}`},
		"PHP's": {`a:2:{s:1:"a";i:1;i:7;s:1:"x";}`, `a:2:{s:1:"a";i:2;i:7;s:1:"x";}`,
			`a:3:{s:1:"a";i:1;i:7;s:3:"fog";i:8;b:1;}`, `a:3:{s:1:"a";i:2;i:7;s:3:"fog";i:8;b:1;}`},
		"PHP's lists": {`a:2:{i:0;i:4;i:1;i:5;}`, `a:1:{i:0;i:5;}`, `a:3:{i:0;i:4;i:1;i:5;i:2;i:6;}`,
			`a:2:{i:0;i:5;i:1;i:6;}`},
		"PHP's objects": {`O:1:"A":2:{s:1:"x";i:1;s:1:"y";i:1;}`, `O:1:"A":2:{s:1:"x";i:2;s:1:"y";i:1;}`,
			`O:1:"A":2:{s:1:"x";i:1;s:1:"y";i:3;}`, `O:1:"A":2:{s:1:"x";i:2;s:1:"y";i:3;}`},
		"other objects": {`O:1:"A":1:{s:1:"x";i:1;}`, `O:1:"A":1:{s:1:"x";i:2;}`, `O:1:"B":1:{s:1:"x";i:1;}`, ""},
		"references": {`a:2:{i:0;a:1:{i:0;i:1;}i:1;R:2;}`, `a:2:{i:0;a:1:{i:0;i:2;}i:1;R:2;}`,
			`a:3:{i:0;a:1:{i:0;i:1;}i:1;R:2;i:2;i:1;}`, ""},
		"lines of a text": {"a:2:{i:0;s:7:\"a\nb\nc\nd\";i:2;i:1;}", "a:2:{i:0;s:7:\"A\nb\nc\nd\";i:2;i:1;}",
			"a:2:{i:0;s:7:\"a\nb\nc\nD\";i:2;i:1;}", "a:2:{i:0;s:7:\"A\nb\nc\nD\";i:2;i:1;}"},
		"words of a line": {`a:1:{s:1:"k";s:3:"a b";}`, `a:1:{s:1:"k";s:3:"A b";}`, `a:1:{s:1:"k";s:3:"a B";}`, ""},
	} {
		got, whole := Packed([]byte(c.was), []byte(c.a), []byte(c.b))
		assert.Equal(t, c.want, string(got), name)
		assert.Equal(t, c.want != "", whole, name)
		other, whole := Packed([]byte(c.was), []byte(c.b), []byte(c.a))
		assert.Equal(t, c.want != "", whole, "%s, the other way round", name)
		if whole && phpval.Looks(other) {
			assert.True(t, phpval.Valid(other), name)
		}
	}
}
