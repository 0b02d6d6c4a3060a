// Package merge brings two versions of a text together that came from one.
package merge

import (
	"slices"
	"strings"
)

// Text merges two versions of a text that came from base, line by line. Where both changed the same lines, in
// different ways, there is no merging them: whole is false, and the lines are those of a.
func Text(base, a, b string) (merged string, whole bool) {
	return weave(base, a, b, func(_, a, _ []string) []string { return a })
}

// The lines that stand around versions of lines, as programs that merge write them.
const (
	begins = "<<<<<<< "
	before = "||||||| "
	middle = "======="
	ends   = ">>>>>>> "
)

// Marked merges like Text, and writes where both changed the same lines all three versions, with marks around them.
// called are the names of a, of base and of b.
func Marked(base, a, b string, called [3]string) string {
	ended := func(lines []string) string {
		text := strings.Join(lines, "")
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += "\n"
		}
		return text
	}
	merged, _ := weave(base, a, b, func(was, a, b []string) []string {
		return []string{begins + called[0] + "\n", ended(a), before + called[1] + "\n", ended(was), middle + "\n", ended(b),
			ends + called[2] + "\n"}
	})
	return merged
}

// HasMarks tells whether a text has lines as Marked writes them.
func HasMarks(text string) bool {
	for l := range strings.Lines(text) {
		if strings.HasPrefix(l, begins) || strings.HasPrefix(l, before) || strings.HasPrefix(l, ends) {
			return true
		}
	}
	return false
}

// weave merges two versions of a text; conflict gives the lines that stand where both changed the same ones.
func weave(base, a, b string, conflict func(was, a, b []string) []string) (merged string, whole bool) {
	switch {
	case a == b, b == base:
		return a, true
	case a == base:
		return b, true
	}
	was, one, two := lines(base), lines(a), lines(b)
	inA, inB := matches(was, one), matches(was, two)
	var out strings.Builder
	whole = true
	for i, x, y := 0, 0, 0; ; {
		k := i
		for k < len(was) && (inA[k] < x || inB[k] < y) {
			k++
		}
		toA, toB := len(one), len(two)
		if k < len(was) {
			toA, toB = inA[k], inB[k]
		}
		chunk, ok := choose(was[i:k], one[x:toA], two[y:toB])
		if !ok {
			chunk, whole = conflict(was[i:k], one[x:toA], two[y:toB]), false
		}
		for _, l := range chunk {
			out.WriteString(l)
		}
		if k == len(was) {
			return out.String(), whole
		}
		out.WriteString(was[k])
		i, x, y = k+1, toA+1, toB+1
	}
}

func lines(s string) []string { return slices.Collect(strings.Lines(s)) }

// choose takes the version of some lines that differs from what they were.
func choose(was, a, b []string) ([]string, bool) {
	switch {
	case slices.Equal(a, b), slices.Equal(b, was):
		return a, true
	case slices.Equal(a, was):
		return b, true
	}
	return a, false
}

// most is how many changes are looked for between two texts; of texts that differ more, what is the same at the
// beginning and the end is taken to be all.
const most = 2000

// matches gives for each line of a the one of b that it stands for, -1 where there is none: a longest common
// sequence (E. Myers, An O(ND) Difference Algorithm and Its Variations, 1986).
func matches(a, b []string) []int {
	out := make([]int, len(a))
	for i := range out {
		out[i] = -1
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		out[head] = head
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		out[len(a)-1-tail] = len(b) - 1 - tail
		tail++
	}
	for _, m := range between(a[head:len(a)-tail], b[head:len(b)-tail]) {
		out[head+m[0]] = head + m[1]
	}
	return out
}

// between gives the pairs of lines of a longest common sequence.
func between(a, b []string) (pairs [][2]int) {
	n, m := len(a), len(b)
	limit := min(n+m, most)
	reach := map[int]int{1: 0} // the furthest line of a on each diagonal
	var trace []map[int]int
	for d := 0; d <= limit; d++ {
		trace = append(trace, clone(reach, d))
		for k := -d; k <= d; k += 2 {
			x := reach[k-1] + 1
			if k == -d || k != d && reach[k-1] < reach[k+1] {
				x = reach[k+1]
			}
			for x < n && x-k < m && a[x] == b[x-k] {
				x++
			}
			reach[k] = x
			if x >= n && x-k >= m {
				return walk(trace, n, m)
			}
		}
	}
	return nil
}

// clone copies the diagonals that step d reads.
func clone(reach map[int]int, d int) map[int]int {
	out := make(map[int]int, 2*d+3)
	for k := -d - 1; k <= d+1; k++ {
		if x, ok := reach[k]; ok {
			out[k] = x
		}
	}
	return out
}

// walk goes back over the steps and gathers what is common.
func walk(trace []map[int]int, x, y int) (pairs [][2]int) {
	for d := len(trace) - 1; d >= 0; d-- {
		reach, k := trace[d], x-y
		from := k - 1
		if k == -d || k != d && reach[k-1] < reach[k+1] {
			from = k + 1
		}
		px := reach[from]
		py := px - from
		for x > px && y > py && (d > 0 || x > 0 && y > 0) {
			x, y = x-1, y-1
			pairs = append(pairs, [2]int{x, y})
		}
		if d > 0 {
			x, y = px, py
		}
	}
	return pairs
}

// parts are lines and their ends, each apart: a last line has no end, and is no other one for that.
func parts(s string) (out []string) {
	for l := range strings.Lines(s) {
		text, ended := strings.CutSuffix(l, "\n")
		if out = append(out, text); ended {
			out = append(out, "\n")
		}
	}
	return out
}

// Carry gives b with the lines that it has in common with base as they stand in was, of which base was made line by
// line: what nobody changed is to the byte what it was. own makes a line of b that is new one of its kind.
func Carry(was, base, b string, own func(string) string) string {
	origin, from, to := parts(was), parts(base), parts(b)
	if len(origin) != len(from) {
		return own(b)
	}
	same := make([]int, len(to))
	for i := range same {
		same[i] = -1
	}
	for i, j := range matches(from, to) {
		if j >= 0 {
			same[j] = i
		}
	}
	var out strings.Builder
	for j, l := range to {
		if same[j] >= 0 {
			out.WriteString(origin[same[j]])
		} else {
			out.WriteString(own(l))
		}
	}
	return out.String()
}
