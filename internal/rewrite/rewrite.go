// Package rewrite changes a site's addresses, file paths and table prefixes
// wherever a stored value holds them, whatever the value is encoded in.
//
// Value is the one entry: it first looks for a needle with a few fast scans
// and gives back the same slice if there is none. Only a value with a needle is
// taken apart: as PHP-serialized (phpval), as JSON, as base64, or as text in
// which addresses may be plain, scheme-less, JSON-escaped, percent-encoded or
// HTML-escaped; and each part of it again in the same way. What only looks
// serialized, or is broken, is left byte for byte and reported as an Issue.
package rewrite

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"alibi/internal/phpval"
	"alibi/internal/site"
)

// Pair says which address becomes which. A pair whose sides are equal keeps
// what it matches, and keeps shorter pairs from matching inside it.
type Pair struct{ From, To site.Address }

// PathPair says which file-system path becomes which; both are absolute.
type PathPair struct{ From, To string }

// Scope says what is meant in a value: in prose only addresses are changed, in
// settings also file-system paths.
type Scope uint8

const (
	Prose Scope = iota
	Settings
)

// Issue is why a value with an address in it was left as it was.
type Issue uint8

const (
	Clean      Issue = iota
	Broken           // looks serialized and is not well formed
	Unkeepable       // its encoding can't be written again as it was
	TooDeep          // encoded in itself more often than anybody does on purpose
)

func (i Issue) String() string {
	return [...]string{"clean", "looks serialized and is broken", "encoded in a way that can't be written again",
		"encoded too many times over"}[i]
}

// maxNesting bounds how often values may be encoded in one another.
const maxNesting = 16

// Rewriter changes values by a set of pairs. It is safe for concurrent use.
type Rewriter struct {
	hosts   map[string][]Pair // by From.Host, longest path first
	anchors []anchor
	paths   []pathNeedle
}

// New makes a Rewriter. The pairs' addresses must have a host.
func New(pairs []Pair, paths []PathPair) (*Rewriter, error) {
	r := &Rewriter{hosts: map[string][]Pair{}}
	for _, p := range pairs {
		if p.From.IsZero() || p.To.IsZero() {
			return nil, fmt.Errorf("rewriting %q to %q: an address is missing", p.From, p.To)
		}
		if slices.Contains(r.hosts[p.From.Host], p) {
			continue
		}
		r.hosts[p.From.Host] = append(r.hosts[p.From.Host], p)
	}
	var names []string
	for h, ps := range r.hosts {
		names = append(names, h)
		slices.SortStableFunc(ps, func(a, b Pair) int { return len(b.From.Path) - len(a.From.Path) })
	}
	r.anchors = anchorsFor(names)
	slices.SortStableFunc(paths, func(a, b PathPair) int { return len(b.From) - len(a.From) })
	for _, p := range paths {
		if !strings.HasPrefix(p.From, "/") || !strings.HasPrefix(p.To, "/") || len(p.From) < 2 {
			return nil, errors.New("rewriting paths: both must be absolute, and not the root")
		}
		r.paths = append(r.paths, pathNeedles(p)...)
	}
	return r, nil
}

// Value returns v with every address of the pairs changed, how many were, and
// why it was left alone if it was. Without any the result is v itself, and
// nothing is allocated.
func (r *Rewriter) Value(v []byte, scope Scope) (out []byte, hits int, issue Issue) {
	return r.value(v, scope, 0)
}

func (r *Rewriter) value(v []byte, scope Scope, depth int) ([]byte, int, Issue) {
	var room [24]int
	needles := r.find(v, scope, room[:0])
	if len(needles) == 0 {
		return v, 0, Clean
	}
	return r.change(v, needles, scope, depth, nil)
}

// change is value for a v in which something was found, at needles. scratch is
// room that the result may take.
func (r *Rewriter) change(v []byte, needles []int, scope Scope, depth int, scratch []byte) ([]byte, int, Issue) {
	if depth > maxNesting {
		return v, 0, TooDeep
	}
	if phpval.Looks(v) {
		return r.serialized(v, needles, scope, depth)
	}
	if inner, wrap, ok := unwrap(v); ok {
		out, n, issue := r.value(inner, scope, depth+1)
		if n == 0 || issue != Clean {
			return v, 0, issue
		}
		return wrap(out), n, Clean
	}
	if looksJSON(v) {
		return r.json(v, needles, scope, depth)
	}
	return r.text(v, needles, scope, depth, scratch)
}

// serialized changes the strings of a PHP value; those without a needle are
// passed by. The needles are used up.
func (r *Rewriter) serialized(v []byte, needles []int, scope Scope, depth int) ([]byte, int, Issue) {
	total, worst := 0, Clean
	rest := needles
	var scratch []byte // of the last result, which Edit has copied by then
	out, err := phpval.EditAt(v, needles, func(place phpval.Place, at int, payload []byte) ([]byte, bool) {
		if place == phpval.Name || len(payload) == 0 {
			return nil, false
		}
		var repl []byte
		var hits int
		var issue Issue
		if &payload[0] != &v[at] { // its escapes are undone, so the needles stand elsewhere
			repl, hits, issue = r.value(payload, scope, depth+1)
		} else {
			for len(rest) > 0 && rest[0] < at {
				rest = rest[1:]
			}
			n := 0
			for n < len(rest) && rest[n] < at+len(payload) {
				rest[n] -= at // EditAt is past it by then
				n++
			}
			repl, hits, issue = r.change(payload, rest[:n], scope, depth+1, scratch[:0])
			rest = rest[n:]
			if hits > 0 {
				scratch = repl
			}
		}
		total += hits
		worst = max(worst, issue)
		return repl, hits > 0
	})
	if err == nil {
		return out, total, worst
	}
	if inner, wrap, ok := unwrapHTML(v); ok {
		if out, n, issue := r.value(inner, scope, depth+1); issue == Clean && n > 0 {
			return wrap(out), n, Clean
		}
	}
	return v, 0, Broken
}

// Key returns name with the table prefix at its start exchanged, as the CMS
// keeps it in the names of some options and user settings, and whether it was.
func Key(name, from, to string) (string, bool) {
	if from == "" || from == to || !strings.HasPrefix(name, from) {
		return name, false
	}
	return to + name[len(from):], true
}
