// Package needles finds out whether one of several texts stands in others.
package needles

import (
	"bytes"
	"slices"
)

// Needles are texts that are looked for in others, all at once (S. Wu and U. Manber, A Fast Algorithm for
// Multi-Pattern Searching, 1994): most of a text is passed over, in steps of the shortest one.
type Needles struct {
	list  [][]byte
	least int // bytes of the shortest
	// skip is how far to go on from where two bytes stand, those that end a needle's beginning of least bytes: 0 where
	// one may begin.
	skip []uint8
}

// New looks for the texts of a list; empty ones stand nowhere.
func New(list []string) (n Needles) {
	n.least = 255
	for _, s := range list {
		if s != "" {
			n.list, n.least = append(n.list, []byte(s)), min(n.least, len(s))
		}
	}
	if len(n.list) == 0 || n.least < 2 {
		return n
	}
	n.skip = slices.Repeat([]uint8{uint8(n.least - 1)}, 1<<16)
	for _, s := range n.list {
		for i := range n.least - 1 {
			at := &n.skip[int(s[i])<<8|int(s[i+1])]
			*at = min(*at, uint8(n.least-2-i))
		}
	}
	return n
}

// None tells whether nothing is looked for.
func (n Needles) None() bool { return len(n.list) == 0 }

// In tells whether one of them stands in a text.
func (n Needles) In(text []byte) bool {
	if n.skip == nil {
		return slices.ContainsFunc(n.list, func(s []byte) bool { return bytes.Contains(text, s) })
	}
	for i := n.least - 1; i < len(text); {
		if step := n.skip[int(text[i-1])<<8|int(text[i])]; step > 0 {
			i += int(step)
			continue
		}
		from := text[i+1-n.least:]
		if slices.ContainsFunc(n.list, func(s []byte) bool { return bytes.HasPrefix(from, s) }) {
			return true
		}
		i++
	}
	return false
}
