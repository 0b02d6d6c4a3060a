package merge

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"

	"alibi/internal/phpval"
)

// node is a value that has others in it: by key, or in a row. One that has none is a leaf, of which only the text is
// known.
type node struct {
	kind  byte   // 'm': by key, 'l': in a row, 's': a text, 0: another leaf
	class string // of PHP's objects
	text  string // as it is written; of a text, what it says
	keys  []string
	in    []node
}

// errPacked is given for what is neither a value of PHP's nor one of JSON, or can't be put together anew.
var errPacked = errors.New("no value that can be taken apart")

// Packed merges two versions of a value of PHP's, or of JSON, that came from base: by key, element and line. Where both
// changed the same place, in different ways, whole is false.
func Packed(base, a, b []byte) (merged []byte, whole bool) {
	read, write := fromPHP, toPHP
	if !phpval.Looks(base) {
		read, write = fromJSON, toJSON
	}
	var n [3]node
	for i, text := range [][]byte{base, a, b} {
		var err error
		if n[i], err = read(text); err != nil {
			return nil, false
		}
	}
	out, whole := nodes(n[0], n[1], n[2])
	if !whole {
		return nil, false
	}
	return write(nil, out), true
}

func (n node) same(o node) bool {
	return n.kind == o.kind && n.class == o.class && n.text == o.text && slices.Equal(n.keys, o.keys) &&
		slices.EqualFunc(n.in, o.in, node.same)
}

func (n node) get(key string) (node, bool) {
	if i := slices.Index(n.keys, key); i >= 0 {
		return n.in[i], true
	}
	return node{}, false
}

// nodes merges two versions of a value.
func nodes(was, a, b node) (node, bool) {
	switch {
	case a.same(b), b.same(was):
		return a, true
	case a.same(was):
		return b, true
	case a.kind != b.kind || was.kind != a.kind || a.class != b.class || was.class != a.class:
		return a, false
	case a.kind == 'm':
		return byKey(was, a, b)
	case a.kind == 'l' && len(was.in) == len(a.in) && len(a.in) == len(b.in) && !a.plain():
		return inARow(was, a, b)
	case a.kind == 'l' && was.plain() && a.plain() && b.plain():
		return asSets(was, a, b), true
	case a.kind == 's':
		text, whole := Text(was.text, a.text, b.text)
		return node{kind: 's', text: text}, whole && bytes.ContainsRune([]byte(was.text), '\n')
	}
	return a, false
}

// byKey merges what is found by keys: those of a in their order, and then those that only b has.
func byKey(was, a, b node) (node, bool) {
	out := node{kind: 'm', class: a.class}
	add := func(key string, n node) { out.keys, out.in = append(out.keys, key), append(out.in, n) }
	for i, key := range a.keys {
		w, had := was.get(key)
		other, has := b.get(key)
		switch {
		case has && !had && !other.same(a.in[i]):
			return a, false // both made it
		case has:
			n, whole := nodes(w, a.in[i], other)
			if !whole {
				return a, false
			}
			add(key, n)
		case !had:
			add(key, a.in[i])
		case !a.in[i].same(w):
			return a, false // b took it away, and a changed it
		}
	}
	for i, key := range b.keys {
		if _, has := a.get(key); has {
			continue
		}
		if w, had := was.get(key); !had {
			add(key, b.in[i])
		} else if !b.in[i].same(w) {
			return a, false // a took it away, and b changed it
		}
	}
	return out, true
}

func inARow(was, a, b node) (node, bool) {
	out := node{kind: 'l'}
	for i := range was.in {
		n, whole := nodes(was.in[i], a.in[i], b.in[i])
		if !whole {
			return a, false
		}
		out.in = append(out.in, n)
	}
	return out, true
}

// plain tells whether a list has leaves only, each once.
func (n node) plain() bool {
	for i, x := range n.in {
		if x.kind != 0 && x.kind != 's' || slices.ContainsFunc(n.in[:i], x.same) {
			return false
		}
	}
	return true
}

// asSets takes from a what b took away, and adds to it what b added.
func asSets(was, a, b node) node {
	out := node{kind: 'l'}
	for _, x := range a.in {
		if slices.ContainsFunc(b.in, x.same) || !slices.ContainsFunc(was.in, x.same) {
			out.in = append(out.in, x)
		}
	}
	for _, x := range b.in {
		if !slices.ContainsFunc(a.in, x.same) && !slices.ContainsFunc(was.in, x.same) {
			out.in = append(out.in, x)
		}
	}
	return out
}

func fromPHP(text []byte) (node, error) {
	v, err := phpval.Parse(text)
	if err != nil || !bytes.Equal(v.Marshal(), text) {
		return node{}, errPacked
	}
	return phpNode(v)
}

func phpNode(v phpval.Value) (n node, err error) {
	switch v.Kind {
	case 'r', 'R': // what it means is counted, and would be another thing
		return n, errPacked
	case 's':
		return node{kind: 's', text: v.Str}, nil
	case 'a', 'O':
	default:
		return node{text: string(v.Marshal())}, nil
	}
	n.kind, n.class = 'm', v.Class
	inRow := v.Kind == 'a'
	for i, it := range v.Items {
		x, err := phpNode(it.Val)
		if err != nil {
			return n, err
		}
		inRow = inRow && it.Key.Kind == 'i' && it.Key.Int == int64(i)
		n.keys, n.in = append(n.keys, string(it.Key.Marshal())), append(n.in, x)
	}
	if inRow && len(n.in) > 0 {
		n.kind, n.keys = 'l', nil
	}
	return n, nil
}

func toPHP(b []byte, n node) []byte { return append(b, phpOf(n).Marshal()...) }

func phpOf(n node) phpval.Value {
	switch n.kind {
	case 's':
		return phpval.String(n.text)
	case 'l':
		var list []phpval.Value
		for _, x := range n.in {
			list = append(list, phpOf(x))
		}
		return phpval.List(list...)
	case 'm':
		v := phpval.Value{Kind: 'a', Class: n.class}
		if n.class != "" {
			v.Kind = 'O'
		}
		for i, x := range n.in {
			key, _ := phpval.Parse([]byte(n.keys[i])) // which was written by Marshal
			v.Items = append(v.Items, phpval.Item{Key: key, Val: phpOf(x)})
		}
		return v
	}
	v, _ := phpval.Parse([]byte(n.text)) // the same
	return v
}

func fromJSON(text []byte) (n node, err error) {
	text = bytes.TrimSpace(text)
	switch {
	case !json.Valid(text):
		return n, errPacked
	case text[0] != '{' && text[0] != '[':
		return node{text: string(text)}, nil
	}
	d := json.NewDecoder(bytes.NewReader(text))
	n.kind = 'l'
	if _, err := d.Token(); err != nil {
		return n, errPacked
	}
	for d.More() {
		if text[0] == '{' {
			n.kind = 'm'
			from := d.InputOffset()
			if _, err := d.Token(); err != nil {
				return n, errPacked
			}
			n.keys = append(n.keys, string(bytes.TrimLeft(text[from:d.InputOffset()], ", \t\r\n")))
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return n, errPacked
		}
		x, err := fromJSON(raw)
		if err != nil {
			return n, err
		}
		n.in = append(n.in, x)
	}
	if text[0] == '{' {
		n.kind = 'm'
	}
	return n, nil
}

func toJSON(b []byte, n node) []byte {
	if n.kind != 'm' && n.kind != 'l' {
		return append(b, n.text...)
	}
	ends := "[]"
	if n.kind == 'm' {
		ends = "{}"
	}
	b = append(b, ends[0])
	for i, x := range n.in {
		if i > 0 {
			b = append(b, ',')
		}
		if n.kind == 'm' {
			b = append(append(b, n.keys[i]...), ':')
		}
		b = toJSON(b, x)
	}
	return append(b, ends[1])
}
