package scrub

import (
	"bytes"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// terms are looked for in texts, each where a word begins and to the end of one, in any case.
type terms struct {
	of    map[string]string // lowered, with what they become
	first map[string][]int  // lengths of those that begin with a word, longest first
	heads *[1 << 16]bool    // the first two bytes of them
}

func newTerms() terms { return terms{map[string]string{}, map[string][]int{}, new([1 << 16]bool)} }

func (x terms) has(v string) bool {
	_, known := x.of[strings.ToLower(v)]
	return known
}

func (x terms) add(v, to string) {
	key := strings.ToLower(strings.TrimLeftFunc(v, func(r rune) bool { return !word(r) }))
	x.of[key] = to
	w := firstWord(key)
	n := len(key)
	if n < 2 {
		return
	}
	x.heads[int(key[0])<<8|int(key[1])] = true
	list := x.first[w]
	if !slices.Contains(list, n) {
		list = append(list, n)
		slices.SortFunc(list, func(a, b int) int { return b - a })
		x.first[w] = list
	}
}

func word(r rune) bool {
	if r < utf8.RuneSelf {
		return r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r == '+'
	}
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r)
}

func firstWord(s string) string {
	if i := strings.IndexFunc(s, func(r rune) bool { return !word(r) }); i > 0 {
		return s[:i]
	}
	return s
}

type hit struct {
	lo, hi int
	to     string
}

// in tells whether one of them stands in a text.
func (x terms) in(text []byte) bool { return len(x.find(text, true)) > 0 }

// exchange puts what they become in their place; not is where none stands in the text.
func (x terms) exchange(text []byte) (out []byte, is bool) {
	found := x.find(text, false)
	if found == nil {
		return text, false
	}
	last := 0
	for _, f := range found {
		out = append(append(out, text[last:f.lo]...), f.to...)
		last = f.hi
	}
	return append(out, text[last:]...), true
}

// find looks at every beginning of a word for what was learned; with one, the
// first is enough.
func (x terms) find(v []byte, one bool) (out []hit) {
	if len(x.of) == 0 {
		return nil
	}
	low := bytes.ToLower(v)
	if len(low) != len(v) { // some letters are shorter in lower case: places would not agree
		low = asciiLower(v)
	}
	inWord := false
	for i := 0; i < len(low); {
		r, size := rune(low[i]), 1
		if r >= utf8.RuneSelf {
			r, size = utf8.DecodeRune(low[i:])
		}
		if !word(r) {
			inWord, i = false, i+size
			continue
		}
		if inWord {
			i += size
			continue
		}
		inWord = true
		if i+1 >= len(low) || !x.heads[int(low[i])<<8|int(low[i+1])] {
			i += size
			continue
		}
		end := i + size
		for end < len(low) {
			r, n := utf8.DecodeRune(low[end:])
			if !word(r) {
				break
			}
			end += n
		}
		to, n := x.at(low, i, end)
		if n == 0 {
			i = end
			continue
		}
		out = append(out, hit{i, i + n, to})
		if one {
			return out
		}
		i, inWord = i+n, false
	}
	return out
}

// at finds the longest term that begins with the word at low[i:end].
func (x terms) at(low []byte, i, end int) (to string, n int) {
	for _, n := range x.first[string(low[i:end])] {
		if i+n > len(low) {
			continue
		}
		to, ok := x.of[string(low[i:i+n])]
		if !ok {
			continue
		}
		if r, _ := utf8.DecodeRune(low[i+n:]); i+n == len(low) || !word(r) {
			return to, n
		}
	}
	return "", 0
}

func asciiLower(v []byte) []byte {
	out := bytes.Clone(v)
	for i, c := range out {
		if c >= 'A' && c <= 'Z' {
			out[i] = c + 'a' - 'A'
		}
	}
	return out
}
