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
	"strings"
	"unicode/utf8"

	"alibi/internal/rewrite"
	"alibi/internal/tables"
)

// Scrubber scrubs the rows of one site.
type Scrubber struct {
	fake  Faker
	rules Rules
	terms terms             // originals that are looked for in every text, with what they become
	raw   map[string][]byte // network addresses as bytes, with what they become
	kinds map[Kind]int      // how many originals of each kind were learned
	back  *back             // nil: nobody asks for originals
}

// New makes a scrubber; key decides what is made up.
func New(key []byte, rules Rules) *Scrubber {
	return &Scrubber{
		fake:  Faker{key},
		rules: rules,
		terms: newTerms(),
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
	if v == "" || to == v {
		return
	}
	s.back.learn(k, v, to)
	if !telling(k, v) || s.terms.has(v) {
		return
	}
	s.kinds[k]++
	s.encodings(k, v, to)
	s.terms.add(v, to)
	switch k {
	case Login: // as addresses of people's pages have it
		s.terms.add("author/"+v, "author/"+to)
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
	if text, is := s.terms.exchange(out); is {
		return text, true
	}
	return out, changed
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
			left = left || s.terms.in(text)
			if !left && bytes.ContainsAny(text, "@%&") {
				for _, m := range mail.FindAllString(signs.Replace(string(text)), -1) {
					left = left || s.terms.has(m)
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
