package rewrite

import (
	"bytes"
	"strconv"
	"strings"
)

// text changes addresses and paths in v as they stand there, and the strings
// of serialized values and runs of base64 that are embedded in it.
func (r *Rewriter) text(v []byte, needles []int, scope Scope, depth int, scratch []byte) ([]byte, int, Issue) {
	var (
		out   = scratch[:0]
		hits  int
		worst Issue
		last  int
	)
	put := func(lo, hi int, repl []byte) {
		if cap(out) < len(v)+len(repl)+64 && len(out) == 0 {
			out = make([]byte, 0, len(v)+len(repl)+64)
		}
		out = append(append(out, v[last:lo]...), repl...)
		last = hi
	}
	for _, at := range needles {
		if at < last {
			continue // inside something that was changed already
		}
		if lenLo, lo, hi, ok := embedded(v[last:], at-last); ok {
			lenLo, lo, hi = lenLo+last, lo+last, hi+last
			repl, n, issue := r.value(v[lo:hi], scope, depth+1)
			hits, worst = hits+n, max(worst, issue)
			if n > 0 {
				head := strconv.AppendInt(nil, int64(len(repl)), 10)
				head = append(head, v[lenLo+digitsAt(v, lenLo):lo]...)
				put(lenLo, hi, append(head, repl...))
			} else {
				put(lo, hi, v[lo:hi])
			}
			continue
		}
		if left, start, end, p, ok := r.address(v, at); ok && left.lo >= last {
			if p.From == p.To {
				put(left.lo, end, v[left.lo:end])
				continue
			}
			hits++
			put(left.lo, end, nil)
			out = left.write(out, v, start, end, p)
			continue
		}
		if scope == Settings {
			if lo, hi, repl, ok := r.path(v, at); ok {
				hits++
				put(lo, hi, repl)
				continue
			}
		}
		if lo, hi, ok := r.base64Run(v, at, last); ok {
			repl, n, issue := r.base64(v[lo:hi], scope, depth)
			hits, worst = hits+n, max(worst, issue)
			if n > 0 {
				put(lo, hi, repl)
			}
		}
	}
	if hits == 0 {
		return v, 0, worst
	}
	return append(out, v[last:]...), hits, worst
}

func digitsAt(v []byte, i int) int {
	n := 0
	for i+n < len(v) && v[i+n] >= '0' && v[i+n] <= '9' {
		n++
	}
	return n
}

// embedded finds the outermost serialized string (s:LEN:"...";) in running
// text that holds the byte at at: its length's digits and its payload.
func embedded(v []byte, at int) (lenLo, lo, hi int, ok bool) {
	floor := max(0, at-8192)
	for end := at; end > floor; {
		q := bytes.LastIndex(v[floor:end], []byte(`:"`))
		if q < 0 {
			break
		}
		q += floor
		d := q
		for d > floor && v[d-1] >= '0' && v[d-1] <= '9' {
			d--
		}
		if d < q && q-d < 10 && d >= 2 && v[d-1] == ':' && v[d-2] == 's' {
			n, _ := strconv.Atoi(string(v[d:q]))
			if to := q + 2 + n; to > at && to+1 < len(v) && v[to] == '"' && v[to+1] == ';' {
				lenLo, lo, hi, ok = d, q+2, to, true
			}
		}
		end = q
	}
	return
}

// address decides whether the host name at at is one of a pair's, whole: what
// stands before it, where the name begins, where the address ends, and the pair.
func (r *Rewriter) address(v []byte, at int) (left context, start, end int, p Pair, ok bool) {
	pairs, start, end := r.hostAt(v, at)
	if pairs == nil {
		return
	}
	left = before(v, start)
	if left.refuse {
		return
	}
	for _, p := range pairs {
		if to, fits := after(v, end, p, left); fits {
			return left, start, to, p, true
		}
	}
	return
}

// hostAt takes the whole host name around at and gives the pairs for it.
func (r *Rewriter) hostAt(v []byte, at int) (pairs []Pair, start, end int) {
	start, end = at, at
	for start > 0 && label(v[start-1]) {
		start--
	}
	for end < len(v) && (label(v[end]) || v[end] == '.' && end+1 < len(v) && label(v[end+1])) {
		end++
	}
	for start > 0 && v[start-1] == '.' && start > 1 && label(v[start-2]) {
		start--
		for start > 0 && label(v[start-1]) {
			start--
		}
	}
	if pairs = r.lookup(v[start:end]); pairs == nil {
		if n := escapeAt(v, start, end); n > 0 { // the tail of an encoded character before it
			start += n
			pairs = r.lookup(v[start:end])
		}
	}
	return pairs, start, end
}

func (r *Rewriter) lookup(b []byte) []Pair {
	if ps := r.hosts[string(b)]; ps != nil || len(b) > 253 {
		return ps
	}
	return r.hosts[strings.ToLower(string(b))]
}

func label(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c >= 0x80
}

// escapeAt is how many of the bytes at start are the tail of an encoded
// character: 2F of %2F, 252F of %252F, n of \n, u002f of \u002f.
func escapeAt(v []byte, start, end int) int {
	if start == 0 {
		return 0
	}
	b := v[start:end]
	switch v[start-1] {
	case '%':
		n := 0
		for bytes.HasPrefix(b[n:], []byte("25")) {
			n += 2
		}
		if len(b) >= n+2 && isHex(b[n]) && isHex(b[n+1]) && !label(unhex2(b[n:])) {
			return n + 2
		}
	case '\\':
		if len(b) >= 5 && b[0] == 'u' && isHex(b[1]) && isHex(b[2]) && isHex(b[3]) && isHex(b[4]) {
			return 5
		}
		if len(b) >= 1 && strings.IndexByte("nrtbf", b[0]) >= 0 {
			return 1
		}
	}
	return 0
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func unhex2(b []byte) byte {
	n, _ := strconv.ParseUint(string(b[:2]), 16, 8)
	return byte(n)
}

// pathNeedle is a file-system path in one of the ways to write its slashes.
type pathNeedle struct{ from, to []byte }

func pathNeedles(p PathPair) []pathNeedle {
	var out []pathNeedle
	for _, slash := range []string{"/", `\/`, `\\\/`, "%2F", "%2f", "&#x2F;", "&#47;"} {
		enc := func(s string) []byte { return []byte(strings.ReplaceAll(s, "/", slash)) }
		out = append(out, pathNeedle{enc(strings.TrimRight(p.From, "/")), enc(strings.TrimRight(p.To, "/"))})
	}
	return out
}

// path matches a whole path at at: no longer name that only begins alike, and
// not the middle of another path.
func (r *Rewriter) path(v []byte, at int) (lo, hi int, repl []byte, ok bool) {
	for _, p := range r.paths {
		if !bytes.HasPrefix(v[at:], p.from) {
			continue
		}
		end := at + len(p.from)
		if end < len(v) && (label(v[end]) || v[end] == '.' && end+1 < len(v) && label(v[end+1])) {
			continue
		}
		if at > 0 && (label(v[at-1]) && escapeAt(v, lineStart(v, at), at) == 0 || v[at-1] == '.' || v[at-1] == '/') {
			continue
		}
		return at, end, p.to, true
	}
	return
}

// lineStart walks back over name characters before at.
func lineStart(v []byte, at int) int {
	for at > 0 && label(v[at-1]) {
		at--
	}
	return at
}
