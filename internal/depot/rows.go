package depot

import (
	"hash/fnv"

	"alibi/internal/tables"
)

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
	s.buf = tables.AppendRow(s.buf, s.t, r)
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
		b = tables.AppendValue(b[:0], v)
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
