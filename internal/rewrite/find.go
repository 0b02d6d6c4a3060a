package rewrite

import (
	"bytes"
	"encoding/base64"
	"maps"
	"slices"
	"strings"
)

// An anchor is what to look for to find a host name, or several that end
// alike: its letters in either case, found by its rarest byte, and what they
// become in base64 at each of the three alignments.
type anchor struct {
	text      string // lower case
	rare      int    // index of the byte that is least common in text
	low, high byte   // that byte in both cases
	encoded   [3]needle
}

// A needle is found by its rarest byte, and then compared.
type needle struct {
	text []byte
	rare int
}

// rareCoded orders bytes by how seldom they are in text that is no base64.
const rareCoded = "ZXQJKVYWU9876543021GFBHDPLNMROCSITAE"

func newNeedle(text string) needle {
	n := needle{text: []byte(text)}
	best := len(rareCoded) + 1
	for i := range len(text) {
		if k := strings.IndexByte(rareCoded, text[i]); k >= 0 && k < best {
			best, n.rare = k, i
		}
	}
	return n
}

// all adds to room each place in v where the needle stands.
func (n *needle) all(v []byte, room []int) []int {
	for i := n.rare; i < len(v); {
		at := indexByte(v, i, n.text[n.rare])
		if at < 0 {
			break
		}
		i = at + 1
		if start := at - n.rare; start+len(n.text) <= len(v) && string(v[start:start+len(n.text)]) == string(n.text) {
			room = append(room, start)
			i = at + len(n.text)
		}
	}
	return room
}

// rarity orders bytes by how seldom they are in prose and markup.
const rarity = "zqxjkvb0123456789w-gpyfm.uclhdrsnioate"

func anchorsFor(hosts []string) []anchor {
	slices.SortFunc(hosts, func(a, b string) int { return len(a) - len(b) })
	var out []anchor
next:
	for _, h := range hosts {
		for _, a := range out {
			if strings.HasSuffix(h, a.text) {
				continue next
			}
		}
		out = append(out, newAnchor(h))
	}
	return out
}

func newAnchor(host string) anchor {
	a := anchor{text: host}
	best := len(rarity) + 1
	for i := range len(host) {
		if k := strings.IndexByte(rarity, host[i]); k >= 0 && k < best {
			best, a.rare = k, i
		}
	}
	a.low = host[a.rare]
	a.high = bytes.ToUpper([]byte{a.low})[0]
	for shift := range 3 {
		padded := append(make([]byte, shift), host...)
		enc := base64.StdEncoding.EncodeToString(padded)
		from := (shift*8 + 5) / 6
		to := len(padded) * 8 / 6
		a.encoded[shift] = newNeedle(enc[from:to])
	}
	return a
}

// all adds to room each place in v where the anchor's text stands.
func (a *anchor) all(v []byte, room []int) []int {
	low, high := -2, -2 // where the rare byte stands next; -1: nowhere
	if a.high == a.low {
		high = -1
	}
	for i := a.rare; i < len(v); {
		if low != -1 && low < i {
			low = indexByte(v, i, a.low)
		}
		if high != -1 && high < i {
			high = indexByte(v, i, a.high)
		}
		at := low
		if at < 0 || (high >= 0 && high < at) {
			at = high
		}
		if at < 0 {
			break
		}
		i = at + 1
		if start := at - a.rare; start+len(a.text) <= len(v) && equalFold(v[start:start+len(a.text)], a.text) {
			room = append(room, start)
			i = start + len(a.text) + a.rare
		}
	}
	return room
}

func indexByte(v []byte, from int, c byte) int {
	if k := bytes.IndexByte(v[from:], c); k >= 0 {
		return from + k
	}
	return -1
}

func equalFold(b []byte, lower string) bool {
	for i := range len(lower) {
		c := b[i]
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != lower[i] {
			return false
		}
	}
	return true
}

// find lists, in order, where in v something may stand that wants changing.
// It adds to room and does not allocate while nothing is found.
func (r *Rewriter) find(v []byte, scope Scope, room []int) []int {
	for i := range r.anchors {
		a := &r.anchors[i]
		room = a.all(v, room)
		for k := range a.encoded {
			room = a.encoded[k].all(v, room)
		}
	}
	if scope == Settings {
		for i := range r.paths {
			for from := 0; ; {
				j := bytes.Index(v[from:], r.paths[i].from)
				if j < 0 {
					break
				}
				room = append(room, from+j)
				from += j + 1
			}
		}
	}
	if len(room) > 1 {
		slices.Sort(room)
	}
	return room
}

// Needles are the texts without one of which no value is changed: those in
// fold in either case of their letters, those in exact to the byte.
func (r *Rewriter) Needles() (fold, exact []string) {
	for _, a := range r.anchors {
		fold = append(fold, a.text)
		for _, n := range a.encoded {
			exact = append(exact, string(n.text))
		}
	}
	for _, p := range r.paths {
		exact = append(exact, string(p.from))
	}
	return fold, exact
}

// Plain are the texts that most addresses stand in as, with what they become.
// Exchanging them is no rewriting: what comes of it must be checked by Value.
func (r *Rewriter) Plain() [][2]string {
	var out [][2]string
	for _, name := range slices.Sorted(maps.Keys(r.hosts)) {
		for _, p := range r.hosts[name] {
			from := strings.TrimPrefix(p.From.String(), p.From.Scheme)
			for _, scheme := range []string{"https", "http"} {
				out = append(out, [2]string{scheme + from, p.To.String()})
			}
		}
	}
	return out
}
