package scrub

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"html"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"
)

// encodings notes the ways in which a value stands in texts beside as it is: percent-encoded, with
// entities. Of a mail address these are found by their sign, and what is noted are the digests under
// which services know it.
func (s *Scrubber) encodings(k Kind, v, to string) {
	type pair struct{ from, to string }
	var list []pair
	if k != Email {
		list = []pair{
			{url.QueryEscape(v), url.QueryEscape(to)}, {url.PathEscape(v), url.PathEscape(to)},
			{strings.ReplaceAll(v, " ", "+"), strings.ReplaceAll(to, " ", "+")},
			{decimal(v), to}, {hexadecimal(v), to}, {byNames(v), to},
		}
	} else {
		was, is := []byte(strings.ToLower(v)), []byte(strings.ToLower(to))
		a, b := md5.Sum(was), md5.Sum(is)
		c, d := sha1.Sum(was), sha1.Sum(is)
		e, f := sha256.Sum256(was), sha256.Sum256(is)
		list = append(list, pair{hex.EncodeToString(a[:]), hex.EncodeToString(b[:])},
			pair{hex.EncodeToString(c[:]), hex.EncodeToString(d[:])},
			pair{hex.EncodeToString(e[:]), hex.EncodeToString(f[:])})
	}
	for _, p := range list {
		if p.from != v && p.from != "" {
			s.terms.add(p.from, p.to)
		}
	}
}

// decimal writes what is no ASCII as numeric entities.
func decimal(v string) string {
	return entities(v, func(r rune) string { return fmt.Sprintf("&#%d;", r) })
}

func hexadecimal(v string) string {
	return entities(v, func(r rune) string { return fmt.Sprintf("&#x%x;", r) })
}

// byNames writes what is no ASCII as entities with names, where there are any.
func byNames(v string) string {
	return entities(v, func(r rune) string {
		if n := entityNames()[r]; n != "" {
			return "&" + n + ";"
		}
		return string(r)
	})
}

func entities(v string, as func(rune) string) string {
	var b strings.Builder
	for _, r := range v {
		if r < utf8.RuneSelf {
			b.WriteRune(r)
		} else {
			b.WriteString(as(r))
		}
	}
	return b.String()
}

// entityNames are the names of letters. Source: HTML, "Named character references".
var entityNames = sync.OnceValue(func() map[rune]string {
	out := map[rune]string{}
	for _, letter := range "AEIOUYCNaeiouycn" {
		for _, mark := range []string{"grave", "acute", "circ", "tilde", "uml", "ring", "cedil", "caron"} {
			name := string(letter) + mark
			if r := []rune(html.UnescapeString("&" + name + ";")); len(r) == 1 {
				out[r[0]] = name
			}
		}
	}
	for _, name := range []string{"szlig", "aelig", "AElig", "oslash", "Oslash", "aring", "Aring", "eth", "ETH",
		"thorn", "THORN", "scaron", "Scaron", "zcaron", "Zcaron"} {
		if r := []rune(html.UnescapeString("&" + name + ";")); len(r) == 1 {
			out[r[0]] = name
		}
	}
	return out
})

// signs are the ways in which the sign of a mail address is written in texts.
var signs = strings.NewReplacer("%40", "@", "&#64;", "@", "&#064;", "@", "&#x40;", "@", "&commat;", "@")

// packed are the bytes in which databases keep a network address.
func packed(a netip.Addr) [][]byte {
	sixteen := a.As16()
	out := [][]byte{sixteen[:]}
	if a = a.Unmap(); a.Is4() {
		four := a.As4()
		out = append(out, four[:])
	}
	return out
}

// unpacked reads a network address that is kept in bytes.
func unpacked(v []byte) (netip.Addr, bool) {
	if len(v) != 4 && len(v) != 16 {
		return netip.Addr{}, false
	}
	if _, err := netip.ParseAddr(string(v)); err == nil {
		return netip.Addr{}, false // a short one, written out
	}
	return netip.AddrFromSlice(v)
}

// learnAddress remembers the packed forms of a network address.
func (s *Scrubber) learnAddress(a netip.Addr) {
	for _, raw := range packed(a) {
		s.raw[string(raw)] = s.madeAddress(a, len(raw))
	}
}

// madeAddress makes up a network address that is kept in bytes.
func (s *Scrubber) madeAddress(a netip.Addr, size int) []byte {
	to, err := netip.ParseAddr(s.fake.IP(a.Unmap().String()))
	if err != nil {
		return make([]byte, size)
	}
	for _, raw := range packed(to) {
		if len(raw) == size {
			return raw
		}
	}
	return make([]byte, size)
}

// encoded are runs of characters that may be base64.
var encoded = regexp.MustCompile(`[A-Za-z0-9+/]{20,}={0,2}`)

// inBase64 has do change what stands in base64 somewhere in a text.
func inBase64(v []byte, do func([]byte) ([]byte, bool)) ([]byte, bool) {
	changed := false
	out := encoded.ReplaceAllFunc(v, func(run []byte) []byte {
		if len(run)%4 != 0 {
			return run
		}
		text := make([]byte, base64.StdEncoding.DecodedLen(len(run)))
		n, err := base64.StdEncoding.Decode(text, run)
		if err != nil || !utf8.Valid(text[:n]) || bytes.IndexByte(text[:n], 0) >= 0 {
			return run
		}
		now, is := do(text[:n])
		if !is {
			return run
		}
		changed = true
		return base64.StdEncoding.AppendEncode(nil, now)
	})
	return out, changed
}
