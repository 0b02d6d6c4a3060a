package tables

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
)

// Where rows are kept in files, they are lines of fields with tabs between them, escaped as in the
// text form of LOAD DATA (\\, \n, \t, \0, \N for NULL); before each value is a
// letter for its kind. A table whose key is none of its columns has the key's
// values first.
var kindLetters = map[Kind]byte{Int: 'i', Float: 'f', Text: 't', Blob: 'b'}

// AppendValue adds a value as it is written in a line.
func AppendValue(b []byte, v Value) []byte {
	if v.Kind == Null {
		return append(b, `\N`...)
	}
	b = append(b, kindLetters[v.Kind])
	switch {
	case v.Kind == Int && v.Bytes == nil:
		return strconv.AppendInt(b, v.Int, 10)
	case v.Kind == Float && v.Bytes == nil:
		return strconv.AppendFloat(b, v.Float, 'g', -1, 64)
	}
	last := 0
	for i, c := range v.Bytes {
		var e byte
		switch c {
		case '\\', '\t', '\n':
			e = "\\tn"[bytes.IndexByte([]byte("\\\t\n"), c)]
		case 0:
			e = '0'
		default:
			continue
		}
		b = append(b, v.Bytes[last:i]...)
		b = append(b, '\\', e)
		last = i + 1
	}
	return append(b, v.Bytes[last:]...)
}

// AppendRow adds a row as a line.
func AppendRow(b []byte, t Table, r Row) []byte {
	n := 0
	put := func(v Value) {
		if n > 0 {
			b = append(b, '\t')
		}
		b = AppendValue(b, v)
		n++
	}
	if t.Hidden {
		for _, v := range r.Key {
			put(v)
		}
	}
	for _, v := range r.Values {
		put(v)
	}
	return append(b, '\n')
}

var errRow = errors.New("a row is not written as rows are")

// readValue reads a field; it changes field, and the value shares its memory.
func readValue(field []byte) (v Value, err error) {
	if string(field) == `\N` {
		return v, nil
	}
	if len(field) == 0 {
		return v, errRow
	}
	kind := field[0]
	field = field[1:]
	out := field[:0]
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c == '\\' {
			if i++; i == len(field) {
				return v, errRow
			}
			at := bytes.IndexByte([]byte(`\tn0`), field[i])
			if at < 0 {
				return v, errRow
			}
			c = "\\\t\n\x00"[at]
		}
		out = append(out, c)
	}
	v.Bytes = out
	switch kind {
	case 'i':
		v.Kind = Int
		v.Int, err = strconv.ParseInt(string(out), 10, 64)
	case 'f':
		v.Kind = Float
		v.Float, err = strconv.ParseFloat(string(out), 64)
	case 't':
		v.Kind = Text
	case 'b':
		v.Kind = Blob
	default:
		err = errRow
	}
	return v, err
}

// ReadRows gives the rows of lines; a row is valid until give returns. The lines are
// changed.
func ReadRows(lines []byte, t Table, give func(Row) error) error {
	hidden := 0
	if t.Hidden {
		hidden = len(t.Key)
	}
	values := make([]Value, hidden+len(t.Columns))
	key := make([]Value, len(t.Key))
	for len(lines) > 0 {
		line, rest, ok := bytes.Cut(lines, []byte{'\n'})
		if !ok {
			return errRow
		}
		lines = rest
		for i := range values {
			field := line
			if i < len(values)-1 {
				if field, line, ok = bytes.Cut(line, []byte{'\t'}); !ok {
					return errRow
				}
			} else if bytes.IndexByte(line, '\t') >= 0 {
				return errRow
			}
			v, err := readValue(field)
			if err != nil {
				return fmt.Errorf("table %s: %w", t.Name, err)
			}
			values[i] = v
		}
		if hidden > 0 {
			copy(key, values[:hidden])
		} else {
			for i, k := range t.Key {
				key[i] = values[t.Column(k)]
			}
		}
		if err := give(Row{Key: key, Values: values[hidden:]}); err != nil {
			return err
		}
	}
	return nil
}
