package tui

import (
	"strings"

	"alibi/internal/drift"
)

// around writes the versions of a place in lines, from a little before where they begin to differ to where they are the
// same again.
func around(v drift.Version, w int) (live, was, copied []string) {
	all := [][]string{textLines(v.Live), textLines(v.Copy)}
	if v.Was != nil {
		all = append(all, textLines(v.Was))
	}
	if v.Live != nil && v.Copy != nil {
		first, last := alike(all)
		for i, lines := range all {
			all[i] = lines[first : len(lines)-last]
		}
		if len(all[0]) == 1 && len(all[1]) == 1 {
			all = fromWhere(all, w)
		}
	}
	for i, lines := range all {
		var out []string
		for _, l := range lines {
			if out = append(out, wrap(l, max(8, w-2))...); len(out) >= mostLines {
				break
			}
		}
		all[i] = out
	}
	if len(all) == 3 {
		was = all[2]
	}
	return all[0], was, all[1]
}

// textLines are the lines of a text that are not empty.
func textLines(s *string) (out []string) {
	if s == nil {
		return []string{"-"}
	}
	for l := range strings.Lines(*s) {
		if l = plain(strings.Join(strings.Fields(l), " ")); l != "" {
			out = append(out, l)
		}
	}
	return out
}

// alike counts the lines that all versions have in common at their beginning, and at their end.
func alike(all [][]string) (first, last int) {
	same := func(at func([]string) int) bool {
		for _, lines := range all {
			i, j := at(all[0]), at(lines)
			if i < 0 || j < 0 || i >= len(all[0]) || j >= len(lines) || all[0][i] != lines[j] {
				return false
			}
		}
		return true
	}
	for same(func([]string) int { return first }) {
		first++
	}
	for same(func(l []string) int {
		if len(l)-1-last < first {
			return -1
		}
		return len(l) - 1 - last
	}) {
		last++
	}
	return first, last
}

// fromWhere cuts lines that begin alike shortly before where they differ.
func fromWhere(all [][]string, w int) (out [][]string) {
	a, b := []rune(all[0][0]), []rune(all[1][0])
	same := 0
	for same < min(len(a), len(b)) && a[same] == b[same] {
		same++
	}
	if same < w*2/3 {
		return all
	}
	from := same - w/3
	for _, lines := range all {
		var cut []string
		for _, l := range lines {
			if r := []rune(l); len(r) > from {
				l = "..." + string(r[from:])
			}
			cut = append(cut, l)
		}
		out = append(out, cut)
	}
	return out
}
