package rewrite

import (
	"bytes"
	"strings"
)

// The ways in which a slash, a colon and an at sign are written, the plain one first.
var (
	slashes = []string{"/", "%252F", "%252f", "%2F", "%2f", "&#x2F;", "&#x2f;", "&#47;", "&sol;", `\u002F`, `\u002f`}
	colons  = []string{":", "%253A", "%253a", "%3A", "%3a", "&#x3A;", "&#x3a;", "&#58;", "&colon;", `\u003A`, `\u003a`}
	ats     = []string{"@", "%2540", "%40", "&#64;", "&#x40;", "&commat;", `\u0040`}
)

// context is what stands before a host name.
type context struct {
	lo       int    // where the address begins
	scheme   string // "http", "https", "ws" or "wss", or ""
	schemeHi int
	colon    string // how the colon behind the scheme is written, or ""
	slash    string // how a slash is written here, or ""
	domain   bool   // a cookie domain: a dot stands before the name
	refuse   bool   // an e-mail address, or another scheme than the web's
}

// suffix gives which of the forms v ends with.
func suffix(v []byte, forms []string) string {
	for _, f := range forms {
		if n := len(v) - len(f); n >= 0 && v[len(v)-1] == f[len(f)-1] && string(v[n:]) == f {
			return f
		}
	}
	return ""
}

func prefix(v []byte, forms []string) string {
	for _, f := range forms {
		if len(v) >= len(f) && v[0] == f[0] && string(v[:len(f)]) == f {
			return f
		}
	}
	return ""
}

// slashBefore is the slash that v ends with, with the backslashes that JSON
// puts before it.
func slashBefore(v []byte) string {
	f := suffix(v, slashes)
	if f != "/" {
		return f
	}
	n := len(v) - 1
	if n == 0 || v[n-1] != '\\' {
		return f
	}
	for n > 0 && v[n-1] == '\\' {
		n--
	}
	return string(v[n:])
}

// before reads what stands before the host name at start.
func before(v []byte, start int) context {
	c := context{lo: start}
	head := v[:start]
	if start == 0 || label(head[start-1]) && escapeAt(v, lineStart(v, start), start) == 0 {
		return c
	}
	if head[start-1] == '/' {
		return c.address(head)
	}
	if at := suffix(head, ats); at != "" {
		u := userBefore(head[:len(head)-len(at)])
		if s := slashBefore(v[:u]); s == "" || slashBefore(v[:u-len(s)]) == "" {
			c.refuse = true
			return c
		}
		head = v[:u]
	}
	if n := len(head); n > 0 && head[n-1] == '.' {
		c.domain = true
		return c
	}
	return c.address(head)
}

// address reads the slashes and the scheme that head ends with.
func (c context) address(head []byte) context {
	s2 := slashBefore(head)
	if s2 == "" {
		return c
	}
	head = head[:len(head)-len(s2)]
	s1 := slashBefore(head)
	if s1 == "" {
		return c
	}
	c.slash = s1
	c.lo = len(head) - len(s1)
	head = head[:c.lo]
	colon := suffix(head, colons)
	if colon == "" {
		return c
	}
	head = head[:len(head)-len(colon)]
	for _, s := range []string{"https", "http", "wss", "ws"} {
		if n := len(head) - len(s); n >= 0 && equalFold(head[n:], s) {
			c.lo, c.scheme, c.schemeHi, c.colon = n, s, len(head), colon
			return c
		}
	}
	if n := len(head); n > 0 && label(head[n-1]) {
		c.refuse = true // another protocol: not the site
	}
	return c
}

// userBefore walks back over what may be a user name and password in a URL.
func userBefore(v []byte) int {
	u := len(v)
	for u > 0 && len(v)-u < 128 {
		c := v[u-1]
		if colon := suffix(v[:u], colons); colon != "" {
			u -= len(colon)
		} else if c == '.' || c == '~' || label(c) && !(u > 2 && v[u-3] == '%') {
			u--
		} else {
			break
		}
	}
	return u
}

// after tells whether pair p fits what stands behind the host name that ends
// at end, and where the address ends.
func after(v []byte, end int, p Pair, left context) (int, bool) {
	rest := v[end:]
	port, n := "", 0
	if len(rest) > 0 && strings.IndexByte(`@:%&\`, rest[0]) >= 0 { // what an at sign or a colon may begin with
		if prefix(rest, ats) != "" {
			return end, false
		}
		colon := prefix(rest, colons)
		if d := digitsAt(rest, len(colon)); colon != "" && d > 0 && d < 6 {
			port, n = string(rest[len(colon):len(colon)+d]), len(colon)+d
		}
	}
	if port != p.From.Port && (p.From.Port != "" || !isDefault(port, left.scheme)) {
		return end, false
	}
	end, rest = end+n, rest[n:]
	if p.From.Path == "" {
		return end, true
	}
	for _, part := range strings.Split(p.From.Path[1:], "/") {
		slash := slashAfter(rest)
		if slash == "" || !bytes.HasPrefix(rest[len(slash):], []byte(part)) {
			return end, false
		}
		n := len(slash) + len(part)
		end, rest = end+n, rest[n:]
	}
	if len(rest) > 0 && (label(rest[0]) || rest[0] == '.' && len(rest) > 1 && label(rest[1])) {
		return end, false
	}
	return end, true
}

func slashAfter(v []byte) string {
	n := 0
	for n < len(v) && v[n] == '\\' {
		n++
	}
	if n > 0 && n < len(v) && v[n] == '/' {
		return string(v[:n+1])
	}
	return prefix(v, slashes)
}

func isDefault(port, scheme string) bool {
	switch scheme {
	case "http", "ws":
		return port == "80"
	case "https", "wss":
		return port == "443"
	}
	return port == "80" || port == "443"
}

// write adds to out the new address in the encoding of the old one, which
// begins in v at c.lo, has its host name at start and ends at end.
func (c context) write(out, v []byte, start, end int, p Pair) []byte {
	if c.scheme != "" {
		scheme := p.To.Scheme
		if c.scheme[0] == 'w' {
			scheme = strings.Replace(scheme, "http", "ws", 1)
		}
		out = append(append(out, scheme...), v[c.schemeHi:start]...)
	} else {
		out = append(out, v[c.lo:start]...)
	}
	out = append(out, p.To.Host...)
	slash, colon := c.slash, c.colon
	if slash == "" {
		slash = slashAfter(v[end:])
	}
	if slash == "" {
		slash = "/"
	}
	if colon == "" {
		colon = colonLike(slash)
	}
	if p.To.Port != "" && !c.domain {
		out = append(append(out, colon...), p.To.Port...)
	}
	if p.To.Path != "" && !c.domain {
		out = append(out, strings.ReplaceAll(p.To.Path, "/", slash)...)
	}
	return out
}

// colonLike is the colon that goes with a slash written in that way.
func colonLike(slash string) string {
	for i, s := range slashes {
		if s == slash && strings.HasPrefix(s, "%") {
			return colons[i]
		}
	}
	return ":"
}
