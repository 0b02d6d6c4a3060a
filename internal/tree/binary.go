package tree

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"time"

	"alibi/internal/host"
)

// What an entry in binary form has beside its mode and size, in this order.
const (
	hasTime = 1 << iota
	hasLink
	hasHash
	hasOwner
	hasChanged
	hasAttrs
)

// AppendBinary appends the entry without its path: what it has, its mode and its size as varints (encoding/binary),
// then of MTime, Link, Hash, Owner, Changed and Attrs those that it has. Times are seconds since 1970 and nanoseconds,
// texts are preceded by their length.
func (e Entry) AppendBinary(b []byte) ([]byte, error) {
	has := uint64(0)
	for i, is := range [...]bool{!e.MTime.IsZero(), e.Link != "", e.Hash != Hash{}, e.Owner != nil,
		!e.Changed.IsZero(), e.Attrs != nil} {
		if is {
			has |= 1 << i
		}
	}
	b = binary.AppendUvarint(b, has)
	b = binary.AppendUvarint(b, uint64(e.Mode))
	b = binary.AppendVarint(b, e.Size)
	if has&hasTime != 0 {
		b = appendTime(b, e.MTime)
	}
	if has&hasLink != 0 {
		b = appendText(b, e.Link)
	}
	if has&hasHash != 0 {
		b = append(b, e.Hash[:]...)
	}
	if has&hasOwner != 0 {
		b = binary.AppendVarint(binary.AppendVarint(b, int64(e.Owner.User)), int64(e.Owner.Group))
	}
	if has&hasChanged != 0 {
		b = appendTime(b, e.Changed)
	}
	if has&hasAttrs != 0 {
		b = binary.AppendUvarint(b, uint64(len(e.Attrs)))
		for _, name := range slices.Sorted(maps.Keys(e.Attrs)) {
			b = appendText(appendText(b, name), string(e.Attrs[name]))
		}
	}
	return b, nil
}

func appendTime(b []byte, t time.Time) []byte {
	return binary.AppendUvarint(binary.AppendVarint(b, t.Unix()), uint64(t.Nanosecond()))
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// errShort is given for an entry of which something is missing, or after which something follows.
var errShort = errors.New("the file's entry is damaged")

// UnmarshalBinary reads what AppendBinary wrote; the path stays.
func (e *Entry) UnmarshalBinary(b []byte) error {
	p := parser{b: b}
	*e = Entry{Path: e.Path}
	has := p.number()
	e.Mode, e.Size = fs.FileMode(p.number()), p.signed()
	if has&hasTime != 0 {
		e.MTime = p.time()
	}
	if has&hasLink != 0 {
		e.Link = string(p.text(p.number()))
	}
	if has&hasHash != 0 {
		copy(e.Hash[:], p.text(uint64(len(e.Hash))))
	}
	if has&hasOwner != 0 {
		e.Owner = &host.Owner{User: int(p.signed()), Group: int(p.signed())}
	}
	if has&hasChanged != 0 {
		e.Changed = p.time()
	}
	if has&hasAttrs != 0 {
		e.Attrs = host.Attrs{}
		for n := p.number(); n > 0 && !p.short; n-- {
			name := string(p.text(p.number()))
			e.Attrs[name] = slices.Clone(p.text(p.number()))
		}
	}
	if p.short || len(p.b) > 0 {
		return errShort
	}
	return nil
}

// parser takes one thing after the other from what is left of b.
type parser struct {
	b     []byte
	short bool
}

func (p *parser) number() uint64 {
	n, size := binary.Uvarint(p.b)
	p.skip(size)
	return n
}

func (p *parser) signed() int64 {
	n, size := binary.Varint(p.b)
	p.skip(size)
	return n
}

func (p *parser) skip(size int) {
	if size <= 0 {
		p.short, p.b = true, nil
		return
	}
	p.b = p.b[size:]
}

func (p *parser) time() time.Time { return time.Unix(p.signed(), int64(p.number())).UTC() }

func (p *parser) text(n uint64) []byte {
	if n > uint64(len(p.b)) {
		p.short, p.b = true, nil
		return nil
	}
	t := p.b[:n]
	p.b = p.b[n:]
	return t
}
