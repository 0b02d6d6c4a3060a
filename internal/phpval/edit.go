package phpval

import (
	"bytes"
	"strconv"
)

// Looks tells whether v begins as a serialized string, array, object or enum
// does; it says nothing about the rest. Scalars (i:1;) can hold no text and
// do not count.
func Looks(v []byte) bool {
	if len(v) < 5 || v[1] != ':' {
		return false
	}
	switch v[0] {
	case 'a', 's', 'S', 'O', 'C', 'E':
	default:
		return false
	}
	i := 2
	for i < len(v) && v[i] >= '0' && v[i] <= '9' {
		i++
	}
	if i == 2 || i+1 >= len(v) || v[i] != ':' {
		return false
	}
	if v[0] == 'a' {
		return v[i+1] == '{'
	}
	return v[i+1] == '"'
}

// Valid tells whether v is one whole serialized value, with nothing but white
// space behind it.
func Valid(v []byte) bool {
	_, err := Edit(v, func(Place, int, []byte) ([]byte, bool) { return nil, false })
	return err == nil
}

// Editor is asked about each string of a value: where it stands in its
// container, at which byte of the source its payload begins, and the payload
// with escapes undone. It returns the new payload and whether it changed.
type Editor func(place Place, at int, payload []byte) ([]byte, bool)

// Edit returns src with the payloads that edit changed put in and every length
// set anew. If nothing changed the result is src itself. A value that is not
// well formed gives an error that wraps ErrSyntax, and no result.
func Edit(src []byte, edit Editor) ([]byte, error) { return edited(src, nil, true, edit) }

// EditAt is Edit for the strings only that one of the positions in src, which
// are in order, lies in; the others are not asked about. The whole value is
// checked all the same.
func EditAt(src []byte, at []int, edit Editor) ([]byte, error) { return edited(src, at, false, edit) }

func edited(src []byte, at []int, all bool, edit Editor) ([]byte, error) {
	s := scanner{src: src}
	var out []byte
	last := 0 // src[:last] is in out already
	var t token
	for s.more() {
		for len(at) > 0 && at[0] < s.pos {
			at = at[1:]
		}
		if !all {
			limit := len(src)
			if len(at) > 0 {
				limit = at[0]
			}
			s.skip(limit)
		}
		if err := s.next(&t); err != nil {
			return nil, err
		}
		if t.kind != 's' && t.kind != 'S' && t.kind != 'C' || !all && (len(at) == 0 || at[0] >= t.hi) {
			continue
		}
		payload := src[t.lo:t.hi]
		if t.kind == 'S' {
			payload = unescape(payload)
		}
		repl, changed := edit(t.place, t.lo, payload)
		if !changed {
			continue
		}
		if out == nil {
			out = make([]byte, 0, len(src)+len(src)/8+len(repl))
		}
		out = append(out, src[last:t.lenLo]...)
		out = strconv.AppendInt(out, int64(len(repl)), 10)
		out = append(out, src[t.lenHi:t.lo]...)
		if t.kind == 'S' {
			out = appendEscaped(out, repl)
		} else {
			out = append(out, repl...)
		}
		last = t.hi
	}
	if len(bytes.TrimSpace(src[s.pos:])) > 0 {
		return nil, s.fail("something behind the value")
	}
	if out == nil {
		return src, nil
	}
	return append(out, src[last:]...), nil
}

func unescape(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] == '\\' && i+2 < len(b) {
			out = append(out, byte(unhex(b[i+1])<<4|unhex(b[i+2])))
			i += 2
			continue
		}
		out = append(out, b[i])
	}
	return out
}

func appendEscaped(out, b []byte) []byte {
	const hex = "0123456789abcdef"
	for _, c := range b {
		if c < 0x20 || c > 0x7e || c == '\\' {
			out = append(out, '\\', hex[c>>4], hex[c&15])
			continue
		}
		out = append(out, c)
	}
	return out
}
