package phpval

import (
	"bytes"
	"strconv"
)

// Value is a serialized value as a tree. Kind is the letter of the format;
// the fields that a kind does not use are zero.
type Value struct {
	Kind  byte   // N b i d s a O C E r R
	Str   string // s: the text; C: the opaque payload; E: Class:Case
	Int   int64  // b, i, r, R
	Float float64
	Class string // O, C
	Items []Item // a, O, in order
}

// Item is one element of an array or property of an object.
type Item struct{ Key, Val Value }

// String makes a string value.
func String(s string) Value { return Value{Kind: 's', Str: s} }

// Int makes an integer value.
func Int(n int64) Value { return Value{Kind: 'i', Int: n} }

// Bool makes a boolean value.
func Bool(b bool) Value {
	v := Value{Kind: 'b'}
	if b {
		v.Int = 1
	}
	return v
}

// List makes an array with the keys 0, 1, 2 ...
func List(vals ...Value) Value {
	v := Value{Kind: 'a'}
	for i, x := range vals {
		v.Items = append(v.Items, Item{Int(int64(i)), x})
	}
	return v
}

// Map makes an array from keys and values in turn.
func Map(pairs ...any) Value {
	v := Value{Kind: 'a'}
	for i := 0; i+1 < len(pairs); i += 2 {
		v.Items = append(v.Items, Item{of(pairs[i]), of(pairs[i+1])})
	}
	return v
}

func of(x any) Value {
	switch x := x.(type) {
	case Value:
		return x
	case string:
		return String(x)
	case int:
		return Int(int64(x))
	case bool:
		return Bool(x)
	}
	return Value{Kind: 'N'}
}

// Text is the value as PHP would turn it into a string; containers give "".
func (v Value) Text() string {
	switch v.Kind {
	case 's':
		return v.Str
	case 'i':
		return strconv.FormatInt(v.Int, 10)
	case 'b':
		if v.Int == 1 {
			return "1"
		}
	case 'd':
		return strconv.FormatFloat(v.Float, 'g', -1, 64)
	}
	return ""
}

// Get is the element under key, and whether there is one.
func (v Value) Get(key string) (Value, bool) {
	for _, it := range v.Items {
		if it.Key.Text() == key {
			return it.Val, true
		}
	}
	return Value{}, false
}

// Parse reads src, which may have white space behind it. Nesting is limited
// to 512 levels; errors wrap ErrSyntax.
func Parse(src []byte) (Value, error) {
	s := scanner{src: src}
	v, err := parse(&s, 0)
	if err == nil && len(bytes.TrimSpace(src[s.pos:])) > 0 {
		err = s.fail("something behind the value")
	}
	return v, err
}

func parse(s *scanner, depth int) (Value, error) {
	if depth > 512 {
		return Value{}, s.fail("nested too deeply")
	}
	var t token
	err := s.next(&t)
	if err != nil {
		return Value{}, err
	}
	v := Value{Kind: t.kind}
	raw := s.src[t.lo:t.hi]
	switch t.kind {
	case 's', 'E':
		v.Str = string(raw)
	case 'S':
		v.Kind, v.Str = 's', string(unescape(raw))
	case 'C':
		v.Str, v.Class = string(raw), string(s.src[t.classLo:t.classHi])
	case 'b', 'i', 'r', 'R':
		v.Int, _ = strconv.ParseInt(string(raw), 10, 64)
	case 'd':
		v.Float, _ = strconv.ParseFloat(string(raw), 64)
	case 'a', 'O':
		v.Class = string(s.src[t.classLo:t.classHi])
		for range t.n {
			k, err := parse(s, depth+1)
			if err != nil {
				return v, err
			}
			x, err := parse(s, depth+1)
			if err != nil {
				return v, err
			}
			v.Items = append(v.Items, Item{k, x})
		}
		err = s.next(&t) // the closing brace
	}
	return v, err
}

// Marshal writes the value as PHP's serialize() would.
func (v Value) Marshal() []byte { return v.append(nil) }

func (v Value) append(b []byte) []byte {
	switch v.Kind {
	case 's', 'E':
		b = append(b, v.Kind, ':')
		return append(quote(b, v.Str), ';')
	case 'b', 'i', 'r', 'R':
		b = append(b, v.Kind, ':')
		return append(strconv.AppendInt(b, v.Int, 10), ';')
	case 'd':
		b = append(b, 'd', ':')
		return append(strconv.AppendFloat(b, v.Float, 'G', -1, 64), ';')
	case 'C':
		b = append(quote(append(b, 'C', ':'), v.Class), ':')
		b = append(strconv.AppendInt(b, int64(len(v.Str)), 10), ':', '{')
		return append(append(b, v.Str...), '}')
	case 'a', 'O':
		b = append(b, v.Kind, ':')
		if v.Kind == 'O' {
			b = append(quote(b, v.Class), ':')
		}
		b = append(strconv.AppendInt(b, int64(len(v.Items)), 10), ':', '{')
		for _, it := range v.Items {
			b = it.Val.append(it.Key.append(b))
		}
		return append(b, '}')
	}
	return append(b, 'N', ';')
}

func quote(b []byte, s string) []byte {
	b = append(strconv.AppendInt(b, int64(len(s)), 10), ':', '"')
	return append(append(b, s...), '"')
}
