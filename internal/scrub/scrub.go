// Package scrub makes up what is personal in a site's tables: the same person
// becomes the same made-up person wherever it is named, in columns that hold
// personal data by the rules of a kind of site and in every text elsewhere. A
// Scrubber first Learns the originals from the origin's rows; then Row changes
// rows, and Look finds originals that are left.
package scrub

import (
	"bytes"
	"context"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"alibi/internal/rewrite"
	"alibi/internal/tables"
)

// Scrubber scrubs the rows of one site.
type Scrubber struct {
	fake  Faker
	rules Rules
	terms map[string]string // originals that are looked for in every text, lowered, with what they become
	first map[string][]int  // lengths of the terms that begin with a word, longest first
	heads [1 << 16]bool     // the first two bytes of terms
	raw   map[string][]byte // network addresses as bytes, with what they become
	kinds map[Kind]int      // how many originals of each kind were learned
}

// New makes a scrubber; key decides what is made up.
func New(key []byte, rules Rules) *Scrubber {
	return &Scrubber{
		fake:  Faker{key},
		rules: rules,
		terms: map[string]string{},
		first: map[string][]int{},
		kinds: map[Kind]int{},
		raw:   map[string][]byte{},
	}
}

// Originals tells how many values of each kind were learned.
func (s *Scrubber) Originals() map[Kind]int { return s.kinds }

// From reads everything that is personal in a state of the origin.
func (s *Scrubber) From(ctx context.Context, snap tables.Snapshot) error {
	for _, t := range snap.Schema().Tables {
		if !s.rules.Table(t) {
			continue
		}
		if err := snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
			s.Learn(t, r)
			return ctx.Err()
		}); err != nil {
			return fmt.Errorf("looking for personal data in %s: %w", t.Name, err)
		}
	}
	return nil
}

// Learn remembers the personal data of a row. What was made up already is none.
func (s *Scrubber) Learn(t tables.Table, r tables.Row) {
	for i, k := range s.rules.Row(t, r) {
		if k == "" || k == Blank || k == Lock {
			continue
		}
		v := strings.TrimSpace(string(r.Values[i].Bytes))
		if a, is := unpacked(r.Values[i].Bytes); is && k == IP {
			v = a.Unmap().String()
		}
		if list := mail.FindAllString(v, -1); k == Email && len(list) > 0 {
			for _, one := range list { // several may stand there
				s.learn(k, one)
			}
			continue
		}
		s.learn(k, v)
	}
}

func (s *Scrubber) learn(k Kind, v string) {
	to := s.made(k, v)
	if v == "" || to == v || !telling(k, v) {
		return
	}
	if _, known := s.terms[strings.ToLower(v)]; known {
		return
	}
	s.kinds[k]++
	s.encodings(k, v, to)
	s.term(v, to)
	switch k {
	case Login: // as addresses of people's pages have it
		s.term("author/"+v, "author/"+to)
	case IP:
		if a, err := netip.ParseAddr(v); err == nil {
			s.learnAddress(a)
		}
	}
}

// telling tells whether a value says enough of a person to be looked for in
// every text: a first name alone may be any word.
func telling(k Kind, v string) bool {
	switch k {
	case Name:
		return len(strings.Fields(v)) > 1 && utf8.RuneCountInString(v) > 6
	case Phone:
		return len(strings.Map(digit, v)) >= 7
	case Street:
		return len(strings.Fields(v)) > 1 && strings.ContainsAny(v, "0123456789")
	case Login:
		return len(v) >= 6 && strings.ContainsAny(v, "0123456789._-@")
	case IBAN:
		return len(v) >= 15
	case Email, IP:
		return true
	}
	return false
}

func (s *Scrubber) term(v, to string) {
	key := strings.ToLower(strings.TrimLeftFunc(v, func(r rune) bool { return !word(r) }))
	s.terms[key] = to
	w := firstWord(key)
	n := len(key)
	if n < 2 {
		return
	}
	s.heads[int(key[0])<<8|int(key[1])] = true
	list := s.first[w]
	if !slices.Contains(list, n) {
		list = append(list, n)
		slices.SortFunc(list, func(a, b int) int { return b - a })
		s.first[w] = list
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

// made makes a value up.
func (s *Scrubber) made(k Kind, v string) string {
	switch k {
	case Name, City:
		return s.fake.Name(v)
	case Email:
		if list := mail.FindAllString(v, -1); len(list) > 1 || len(list) == 1 && list[0] != v {
			return mail.ReplaceAllStringFunc(v, s.fake.Email)
		}
		return s.fake.Email(v)
	case Birth:
		return s.fake.Birth(v)
	case IBAN:
		return s.fake.IBAN(v)
	case Login:
		if strings.Contains(v, "@") {
			return s.fake.Email(v)
		}
		return s.fake.Login(v)
	case Phone:
		return s.fake.Phone(v)
	case Street:
		return s.fake.Street(v)
	case Postcode:
		return s.fake.Postcode(v)
	case IP:
		return s.fake.IP(v)
	case Blank:
		return ""
	case Lock:
		return Locked
	}
	return v
}

// Locked stands for a password: it is no hash, so that nothing signs in with it.
const Locked = "!"

// Row changes a row in place, and counts the values that it changed.
func (s *Scrubber) Row(t tables.Table, r tables.Row) (n int) {
	kinds := s.rules.Row(t, r)
	for i := range r.Values {
		v := &r.Values[i]
		if v.Kind != tables.Text && v.Kind != tables.Blob || len(v.Bytes) == 0 {
			continue
		}
		if to, is := s.raw[string(v.Bytes)]; is && len(v.Bytes) == len(to) {
			v.Bytes = bytes.Clone(to)
			n++
			continue
		}
		if a, is := unpacked(v.Bytes); is && kinds != nil && kinds[i] == IP {
			v.Bytes = s.madeAddress(a, len(v.Bytes))
			n++
			continue
		}
		if kinds != nil && kinds[i] != "" {
			if to := s.made(kinds[i], string(v.Bytes)); to != string(v.Bytes) {
				v.Bytes = []byte(to)
				n++
			}
			continue
		}
		out := rewrite.Texts(v.Bytes, s.text)
		if !bytes.Equal(out, v.Bytes) {
			v.Bytes = out
			n++
		}
	}
	return n
}

var mail = regexp.MustCompile(`[A-Za-z0-9._%+\-]+@[A-Za-z0-9](?:[A-Za-z0-9\-]*[A-Za-z0-9])?(?:\.[A-Za-z0-9\-]+)+`)

// mailEncoded are addresses whose sign is written otherwise.
var mailEncoded = regexp.MustCompile(
	`[A-Za-z0-9._+\-]+(?:%40|&#0*64;|&#x0*40;|&commat;)[A-Za-z0-9](?:[A-Za-z0-9\-]*[A-Za-z0-9])?(?:\.[A-Za-z0-9\-]+)+`,
)

// text exchanges every mail address, and all that was learned, also in base64 that stands in the text.
func (s *Scrubber) text(v []byte) ([]byte, bool) {
	out, changed := s.plain(v)
	if inner, is := inBase64(out, s.plain); is {
		return inner, true
	}
	return out, changed
}

func (s *Scrubber) plain(v []byte) ([]byte, bool) {
	out, changed := v, false
	if bytes.Contains(v, []byte("%40")) || bytes.IndexByte(v, '&') >= 0 {
		out = mailEncoded.ReplaceAllFunc(out, func(m []byte) []byte {
			to := s.fake.Email(signs.Replace(string(m)))
			if bytes.Contains(m, []byte("%40")) {
				to = strings.ReplaceAll(to, "@", "%40")
			}
			changed = changed || to != string(m)
			return []byte(to)
		})
	}
	if bytes.IndexByte(v, '@') >= 0 {
		out = mail.ReplaceAllFunc(out, func(m []byte) []byte {
			to := s.fake.Email(string(m))
			changed = changed || to != string(m)
			return []byte(to)
		})
	}
	if found := s.find(out, false); found != nil {
		var b []byte
		last := 0
		for _, f := range found {
			b = append(append(b, out[last:f.lo]...), f.to...)
			last = f.hi
		}
		return append(b, out[last:]...), true
	}
	return out, changed
}

type hit struct {
	lo, hi int
	to     string
}

// find looks at every beginning of a word for what was learned; with one, the
// first is enough.
func (s *Scrubber) find(v []byte, one bool) (out []hit) {
	if len(s.terms) == 0 {
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
		if i+1 >= len(low) || !s.heads[int(low[i])<<8|int(low[i+1])] {
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
		to, n := s.at(low, i, end)
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
func (s *Scrubber) at(low []byte, i, end int) (to string, n int) {
	for _, n := range s.first[string(low[i:end])] {
		if i+n > len(low) {
			continue
		}
		to, ok := s.terms[string(low[i:i+n])]
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

// Look tells of the columns of a row in which an original stands still, in
// whatever encoding.
func (s *Scrubber) Look(t tables.Table, r tables.Row) (columns []string) {
	for i := range r.Values {
		v := r.Values[i]
		if v.Kind != tables.Text && v.Kind != tables.Blob || len(v.Bytes) == 0 {
			continue
		}
		_, left := s.raw[string(v.Bytes)]
		plain := func(text []byte) ([]byte, bool) {
			left = left || len(s.find(text, true)) > 0
			if !left && bytes.ContainsAny(text, "@%&") {
				for _, m := range mail.FindAllString(signs.Replace(string(text)), -1) {
					_, known := s.terms[strings.ToLower(m)]
					left = left || known
				}
			}
			return nil, false
		}
		look := func(text []byte) ([]byte, bool) {
			plain(text)
			inBase64(text, plain)
			return nil, false
		}
		rewrite.Texts(v.Bytes, look)
		look(v.Bytes)
		if left {
			columns = append(columns, t.Columns[i].Name)
		}
	}
	return columns
}
