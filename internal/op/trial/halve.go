package trial

import (
	"slices"
	"strings"
)

// Halve finds a smallest set of items with which a check fails, given that it
// fails with all of them and passes with none: of what it gives, no item can be
// left out (Zeller and Hildebrandt, Simplifying and Isolating Failure-Inducing
// Input, 2002). fails is asked of several sets at once and never twice of one.
func Halve(items []string, fails func(sets [][]string) ([]bool, error)) ([]string, error) {
	known := map[string]bool{}
	ask := func(sets [][]string) (int, error) {
		var open [][]string
		for _, s := range sets {
			if bad, ok := known[key(s)]; !ok {
				open = append(open, s)
			} else if bad {
				return slices.IndexFunc(sets, func(o []string) bool { return key(o) == key(s) }), nil
			}
		}
		if len(open) > 0 {
			got, err := fails(open)
			if err != nil {
				return -1, err
			}
			for i, s := range open {
				known[key(s)] = got[i]
			}
		}
		return slices.IndexFunc(sets, func(s []string) bool { return known[key(s)] }), nil
	}
	items = slices.Clone(items)
	for n := 2; len(items) > 1; {
		parts := split(items, n)
		i, err := ask(parts)
		if err != nil {
			return nil, err
		}
		if i >= 0 {
			items, n = parts[i], 2
			continue
		}
		if n > 2 { // with two parts, each is all but the other
			rest := make([][]string, len(parts))
			for k, p := range parts {
				rest[k] = without(items, p)
			}
			if i, err = ask(rest); err != nil {
				return nil, err
			}
			if i >= 0 {
				items, n = rest[i], max(n-1, 2)
				continue
			}
		}
		if n >= len(items) {
			break
		}
		n = min(2*n, len(items))
	}
	return items, nil
}

func key(s []string) string { return strings.Join(s, "\x00") }

// split cuts a list into n parts of nearly the same length.
func split(list []string, n int) (out [][]string) {
	for i := range n {
		if part := list[len(list)*i/n : len(list)*(i+1)/n]; len(part) > 0 {
			out = append(out, part)
		}
	}
	return out
}

func without(list, part []string) (out []string) {
	for _, x := range list {
		if !slices.Contains(part, x) {
			out = append(out, x)
		}
	}
	return out
}
