package tables

import (
	"encoding/binary"
	"fmt"

	"github.com/zeebo/blake3"
)

// Keyer tells what the rows of one table are found by on either side. It is for
// one reading of the table, by one goroutine.
type Keyer struct {
	t    Table
	snap Snapshot
	buf  []byte
	seen map[Digest]int // of a table without a key: how often each row came
}

// Keys begins a reading of a table of a snapshot.
func Keys(snap Snapshot, t Table) *Keyer {
	return &Keyer{t: t, snap: snap, seen: map[Digest]int{}}
}

// Of gives what a row is found by: its key's values, as they are on the copy.
// Where there is no key, it is all its values, and how many like it came before.
func (k *Keyer) Of(row Row) uint64 {
	if len(k.t.Key) == 0 {
		var d Digest
		d, k.buf = k.snap.Digest(k.t.Name, row, k.buf)
		k.seen[d]++
		k.buf = fmt.Appendf(k.buf[:0], "%s %d", d, k.seen[d])
		return k.sum()
	}
	k.buf = k.buf[:0]
	for i, name := range k.t.Key {
		v := row.Key[i]
		if c := k.t.Column(name); c >= 0 && !k.t.Hidden && row.Values != nil {
			v = row.Values[c]
		}
		k.part(v)
	}
	return k.sum()
}

// OfKey is Of for a row of which only the key is known.
func (k *Keyer) OfKey(key []Value) uint64 {
	k.buf = k.buf[:0]
	for _, v := range key {
		k.part(v)
	}
	return k.sum()
}

func (k *Keyer) part(v Value) {
	k.buf = append(k.buf, byte(v.Kind))
	if v.Kind == Text || v.Kind == Blob {
		k.buf = append(k.buf, v.Bytes...)
	} else {
		k.buf = append(k.buf, v.String()...)
	}
	k.buf = append(k.buf, 0)
}

func (k *Keyer) sum() uint64 {
	sum := blake3.Sum256(k.buf)
	return binary.LittleEndian.Uint64(sum[:])
}
