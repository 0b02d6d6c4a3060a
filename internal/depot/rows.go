package depot

import (
	"bytes"
	"errors"
	"fmt"
	"hash/fnv"
	"strconv"

	"alibi/internal/tables"
)

// Rows are kept as lines of fields with tabs between them, escaped as in the
// text form of LOAD DATA (\\, \n, \t, \0, \N for NULL); before each value is a
// letter for its kind. A table whose key is none of its columns has the key's
// values first.
var kinds = map[tables.Kind]byte{tables.Int: 'i', tables.Float: 'f', tables.Text: 't', tables.Blob: 'b'}

func appendValue(b []byte, v tables.Value) []byte {
	if v.Kind == tables.Null {
		return append(b, `\N`...)
	}
	b = append(b, kinds[v.Kind])
	switch {
	case v.Kind == tables.Int && v.Bytes == nil:
		return strconv.AppendInt(b, v.Int, 10)
	case v.Kind == tables.Float && v.Bytes == nil:
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

func appendRow(b []byte, t tables.Table, r tables.Row) []byte {
	n := 0
	put := func(v tables.Value) {
		if n > 0 {
			b = append(b, '\t')
		}
		b = appendValue(b, v)
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
func readValue(field []byte) (v tables.Value, err error) {
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
		v.Kind = tables.Int
		v.Int, err = strconv.ParseInt(string(out), 10, 64)
	case 'f':
		v.Kind = tables.Float
		v.Float, err = strconv.ParseFloat(string(out), 64)
	case 't':
		v.Kind = tables.Text
	case 'b':
		v.Kind = tables.Blob
	default:
		err = errRow
	}
	return v, err
}

// readRows gives the rows of a segment; a row is valid until give returns. The
// segment is changed.
func readRows(segment []byte, t tables.Table, give func(tables.Row) error) error {
	hidden := 0
	if t.Hidden {
		hidden = len(t.Key)
	}
	values := make([]tables.Value, hidden+len(t.Columns))
	key := make([]tables.Value, len(t.Key))
	for len(segment) > 0 {
		line, rest, ok := bytes.Cut(segment, []byte{'\n'})
		if !ok {
			return errRow
		}
		segment = rest
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
		if err := give(tables.Row{Key: key, Values: values[hidden:]}); err != nil {
			return err
		}
	}
	return nil
}

// A segment is a run of rows in the order of the key. It ends where the key of
// a row says so, so that a row that is put in moves no end behind it.
const (
	minSegment = 16 << 10
	avgSegment = 64 << 10
	maxSegment = 1 << 20
)

// segments cuts the rows of a table.
type segments struct {
	t    tables.Table
	buf  []byte
	give func(segment []byte) error
}

func (s *segments) add(r tables.Row) error {
	before := len(s.buf)
	s.buf = appendRow(s.buf, s.t, r)
	if len(s.buf) < minSegment {
		return nil
	}
	line := s.buf[before:]
	if len(s.buf) < maxSegment && !s.ends(r, line) {
		return nil
	}
	return s.flush()
}

// ends tells whether a segment ends with the row: the likelier the longer it is.
func (s *segments) ends(r tables.Row, line []byte) bool {
	h := fnv.New32a()
	if len(r.Key) == 0 {
		_, _ = h.Write(line)
	}
	var b []byte
	for _, v := range r.Key {
		b = appendValue(b[:0], v)
		_, _ = h.Write(b)
	}
	x := h.Sum32() * 2654435761 // the low bits of short keys' sums differ little
	return uint64(x)*avgSegment < uint64(len(line))<<32
}

func (s *segments) flush() error {
	if len(s.buf) == 0 {
		return nil
	}
	err := s.give(s.buf)
	s.buf = s.buf[:0]
	return err
}
