package rewrite

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"iter"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"

	"alibi/internal/phpval"
)

// unwrap undoes an encoding of a whole serialized value in which its lengths
// would count other bytes than those that stand there. wrap does it again.
func unwrap(v []byte) (inner []byte, wrap func([]byte) []byte, ok bool) {
	if len(v) < 5 || v[1] != ':' && v[1] != '%' {
		return nil, nil, false
	}
	if v[1] == ':' && htmlString.Match(v) {
		return unwrapHTML(v)
	}
	if !percentSerialized.Match(v) {
		return nil, nil, false
	}
	s, err := url.QueryUnescape(string(v))
	if err != nil || !phpval.Valid([]byte(s)) {
		return nil, nil, false
	}
	for _, enc := range []func(string) string{url.QueryEscape, rawEscape} {
		if enc(s) == string(v) {
			return []byte(s), func(b []byte) []byte { return []byte(enc(string(b))) }, true
		}
	}
	return nil, nil, false
}

var (
	percentSerialized = regexp.MustCompile(`^[asSOCE]%3[aA]\d+%3[aA]`)
	htmlString        = regexp.MustCompile(`^[sO]:\d+:&quot;`)
)

// rawEscape is RFC 3986's form, in which a blank is %20.
func rawEscape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }

var (
	htmlDecode = strings.NewReplacer("&quot;", `"`, "&#039;", "'", "&lt;", "<", "&gt;", ">", "&amp;", "&")
	htmlEncode = strings.NewReplacer(`"`, "&quot;", "'", "&#039;", "<", "&lt;", ">", "&gt;", "&", "&amp;")
)

// unwrapHTML undoes the escaping of HTML's special characters.
func unwrapHTML(v []byte) (inner []byte, wrap func([]byte) []byte, ok bool) {
	if !bytes.Contains(v, []byte("&quot;")) {
		return nil, nil, false
	}
	s := htmlDecode.Replace(string(v))
	if htmlEncode.Replace(s) != string(v) || !phpval.Valid([]byte(s)) {
		return nil, nil, false
	}
	return []byte(s), func(b []byte) []byte { return []byte(htmlEncode.Replace(string(b))) }, true
}

func looksJSON(v []byte) bool {
	v = bytes.TrimLeft(v, " \t\r\n")
	return len(v) > 1 && (v[0] == '{' || v[0] == '[' || v[0] == '"') && json.Valid(v)
}

// json changes the string tokens of a JSON text. A token whose text is itself
// an encoded value is decoded and encoded again in its own style; any other is
// changed as it stands, so that the text keeps its form.
func (r *Rewriter) json(v []byte, needles []int, scope Scope, depth int) ([]byte, int, Issue) {
	var out []byte
	total, worst, last := 0, Clean, 0
	next := 0
	for lo, i := range jsonStrings(v) {
		for next < len(needles) && needles[next] < lo {
			next++
		}
		if next == len(needles) || needles[next] >= i {
			continue
		}
		repl, n, issue := r.jsonString(v[lo:i], scope, depth)
		total, worst = total+n, max(worst, issue)
		if n > 0 {
			out = append(append(out, v[last:lo]...), repl...)
			last = i
		}
	}
	if total == 0 {
		return v, 0, worst
	}
	return append(out, v[last:]...), total, worst
}

// jsonStrings gives where the inside of each string token of a JSON text begins
// and ends.
func jsonStrings(v []byte) iter.Seq2[int, int] {
	return func(yield func(lo, hi int) bool) {
		for i := 0; i < len(v); i++ {
			if v[i] != '"' {
				continue
			}
			lo := i + 1
			for i = lo; v[i] != '"'; i++ {
				if v[i] == '\\' {
					i++
				}
			}
			if !yield(lo, i) {
				return
			}
		}
	}
}

// jsonString changes the raw inside of one JSON string.
func (r *Rewriter) jsonString(raw []byte, scope Scope, depth int) ([]byte, int, Issue) {
	var text string
	if err := json.Unmarshal(append(append([]byte{'"'}, raw...), '"'), &text); err != nil {
		return raw, 0, Unkeepable
	}
	dec := []byte(text)
	nested := phpval.Looks(dec) || looksJSON(dec) || percentSerialized.Match(dec) ||
		bytes.Contains(dec, []byte(`s:`)) && hasEmbedded(dec)
	if !nested {
		var room [24]int
		return r.text(raw, r.find(raw, scope, room[:0]), scope, depth+1, nil)
	}
	out, n, issue := r.value(dec, scope, depth+1)
	if n == 0 {
		return raw, 0, issue
	}
	for style := range jsonStyles {
		if bytes.Equal(jsonQuote(dec, style), raw) {
			return jsonQuote(out, style), n, issue
		}
	}
	return raw, 0, Unkeepable
}

var embeddedString = regexp.MustCompile(`s:\d+:"`)

func hasEmbedded(v []byte) bool { return embeddedString.Match(v) }

// A style of writing JSON strings: which optional escapes are used.
const (
	escapeSlash   = 1 << iota // "/" as \/
	escapeUnicode             // what is not ASCII as \uXXXX
	escapeHTML                // < > & as \u003c
	jsonStyles    = 1 << iota
)

// jsonQuote writes the inside of a JSON string in a style. NULs and other
// control characters are written as PHP and JavaScript do.
func jsonQuote(s []byte, style int) []byte {
	const hex = "0123456789abcdef"
	out := make([]byte, 0, len(s)+len(s)/8)
	unicode := func(r rune) {
		out = append(out, '\\', 'u', hex[r>>12&15], hex[r>>8&15], hex[r>>4&15], hex[r&15])
	}
	for i := 0; i < len(s); {
		c := s[i]
		if c >= utf8.RuneSelf {
			r, n := utf8.DecodeRune(s[i:])
			if style&escapeUnicode == 0 {
				out = append(out, s[i:i+n]...)
			} else if r > 0xffff {
				unicode(0xd800 + (r-0x10000)>>10)
				unicode(0xdc00 + (r-0x10000)&0x3ff)
			} else {
				unicode(r)
			}
			i += n
			continue
		}
		i++
		switch {
		case c == '"' || c == '\\' || c == '/' && style&escapeSlash != 0:
			out = append(out, '\\', c)
		case c == '\n':
			out = append(out, '\\', 'n')
		case c == '\r':
			out = append(out, '\\', 'r')
		case c == '\t':
			out = append(out, '\\', 't')
		case c == '\b':
			out = append(out, '\\', 'b')
		case c == '\f':
			out = append(out, '\\', 'f')
		case c < 0x20, style&escapeHTML != 0 && (c == '<' || c == '>' || c == '&'):
			unicode(rune(c))
		default:
			out = append(out, c)
		}
	}
	return out
}

func base64Char(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '+' || c == '/' || c == '-' ||
		c == '_'
}

// base64Run is the run of base64 around at, if a host's encoded form is there.
func (r *Rewriter) base64Run(v []byte, at, floor int) (lo, hi int, ok bool) {
	for i := range r.anchors {
		for _, e := range r.anchors[i].encoded {
			if bytes.HasPrefix(v[at:], e.text) {
				ok = true
			}
		}
	}
	if !ok {
		return
	}
	for lo = at; lo > floor && base64Char(v[lo-1]); lo-- {
	}
	for hi = at; hi < len(v) && base64Char(v[hi]); hi++ {
	}
	for n := 0; n < 2 && hi < len(v) && v[hi] == '='; n++ {
		hi++
	}
	return
}

// base64 changes what a run of base64 holds and writes it in the same alphabet,
// as far as the run tells which it is.
func (r *Rewriter) base64(run []byte, scope Scope, depth int) ([]byte, int, Issue) {
	for _, enc := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding,
		base64.RawURLEncoding} {
		dec, err := enc.Strict().DecodeString(string(run))
		if err != nil {
			continue
		}
		out, n, issue := r.value(dec, scope, depth+1)
		if n == 0 {
			return run, 0, issue
		}
		return []byte(enc.EncodeToString(out)), n, issue
	}
	return run, 0, Unkeepable
}
