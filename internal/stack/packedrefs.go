package stack

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"

	"alibi/internal/phpval"
	"alibi/internal/tables"
)

// any key or element of a packed value is meant by this part of a path.
const everyPart = "*"

// referAt visits the numbers at a path of a value that PHP or JSON packs, and puts what visit gives in their place; all
// else stays to the byte. A value that is no such thing, or that would not be written again as it is, stays.
func referAt(t tables.Table, r tables.Row, column, path string, visit func(int64) int64) {
	i := t.Column(column)
	if i < 0 || r.Values[i].Kind == tables.Null || r.Values[i].Kind == tables.Int {
		return
	}
	v, parts := &r.Values[i], strings.Split(path, ".")
	if phpval.Looks(v.Bytes) {
		if is, err := phpval.Parse(v.Bytes); err == nil && bytes.Equal(is.Marshal(), v.Bytes) && referPHP(&is, parts, visit) {
			v.Bytes = is.Marshal()
		}
		return
	}
	if text := bytes.TrimSpace(v.Bytes); len(text) > 1 && json.Valid(text) {
		v.Bytes = referJSON(v.Bytes, parts, visit)
	}
}

// referPHP does that of a value of PHP, and tells whether it changed it.
func referPHP(v *phpval.Value, path []string, visit func(int64) int64) (changed bool) {
	switch {
	case len(path) > 0:
		for i := range v.Items {
			if key := v.Items[i].Key.Text(); path[0] == everyPart || path[0] == key {
				changed = referPHP(&v.Items[i].Val, path[1:], visit) || changed
			}
		}
	case v.Kind == 'i' && v.Int > 0:
		to := visit(v.Int)
		changed, v.Int = to != v.Int, to
	case v.Kind == 's':
		to := referText(v.Str, visit)
		changed, v.Str = to != v.Str, to
	}
	return changed
}

// referJSON does that of a value of JSON that is right.
func referJSON(text []byte, path []string, visit func(int64) int64) []byte {
	lead := text[:len(text)-len(bytes.TrimLeft(text, " \t\r\n"))]
	rest := text[len(lead):]
	if len(path) == 0 {
		return append(bytes.Clone(lead), referLeaf(rest, visit)...)
	}
	if rest[0] != '{' && rest[0] != '[' {
		return text
	}
	out, last := bytes.Clone(lead), 0
	d := json.NewDecoder(bytes.NewReader(rest))
	_, err := d.Token()
	for n := 0; err == nil && d.More(); n++ {
		key := strconv.Itoa(n)
		if rest[0] == '{' {
			var token json.Token
			if token, err = d.Token(); err != nil {
				break
			}
			key, _ = token.(string)
		}
		var raw json.RawMessage
		if err = d.Decode(&raw); err != nil {
			break
		}
		if path[0] != everyPart && path[0] != key {
			continue
		}
		end := int(d.InputOffset())
		out = append(append(out, rest[last:end-len(raw)]...), referJSON(raw, path[1:], visit)...)
		last = end
	}
	if err != nil {
		return text
	}
	return append(out, rest[last:]...)
}

// referLeaf does that of a number, or of a text that is one or several.
func referLeaf(text []byte, visit func(int64) int64) []byte {
	if text[0] != '"' {
		return []byte(referText(string(text), visit))
	}
	var s string
	if json.Unmarshal(text, &s) != nil {
		return text
	}
	if to := referText(s, visit); to != s {
		return []byte(strconv.Quote(to)) // digits, commas and white space
	}
	return text
}
