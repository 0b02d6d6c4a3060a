package scrub

import (
	"cmp"
	"errors"
	"regexp"
	"strings"
	"unicode"

	"alibi/internal/rewrite"
	"alibi/internal/tables"
)

// back knows the originals of what was made up.
type back struct {
	values map[string]string // by kind and what was made of them, lowered; "": several became that
	texts  terms             // what is looked for in texts
}

// Return has a scrubber that is to learn remember what it makes of which original, for HomeValue and HomeText.
func (s *Scrubber) Return() { s.back = &back{map[string]string{}, newTerms()} }

func (b *back) learn(k Kind, v, to string) {
	if b == nil || to == "" {
		return
	}
	for _, kind := range []Kind{k, anyKind} {
		key := string(kind) + "\n" + strings.ToLower(to)
		was, known := b.values[key]
		if known && !strings.EqualFold(was, v) {
			v = ""
		}
		if !known || v == "" {
			b.values[key] = v
		}
	}
	if telling(k, v) || b.texts.has(to) { // of one that several became it stays, and is seen to be made up
		b.texts.add(to, cmp.Or(b.values[string(anyKind)+"\n"+strings.ToLower(to)], to))
	}
}

// anyKind is what texts may hold.
const anyKind Kind = ""

// ErrMadeUp is given for what is made up and of which no original is known.
var ErrMadeUp = errors.New("it names somebody who is made up on the copy, and of whom the live site has no original")

// Kinds names the kinds of personal data in a row, by column; nil: there is none.
func (s *Scrubber) Kinds(t tables.Table, r tables.Row) []Kind { return s.rules.Row(t, r) }

// HomeValue gives the original of a value that is of a kind. What nobody made up stays.
func (s *Scrubber) HomeValue(k Kind, v []byte) ([]byte, error) {
	text := strings.TrimSpace(string(v))
	if was, known := s.back.values[string(k)+"\n"+strings.ToLower(text)]; known && was != "" {
		return []byte(was), nil
	}
	if _, bytes := unpacked(v); bytes && k == IP {
		return nil, ErrMadeUp
	}
	if text == Locked && k == Lock || invented(text) || madePostcode.MatchString(text) && k == Postcode {
		return nil, ErrMadeUp
	}
	return v, nil
}

// HomeText gives a text with the originals of those who are made up in it. near are values of the origin in which
// mail addresses stand that are in no column of people.
func (s *Scrubber) HomeText(v []byte, near []tables.Value) ([]byte, error) {
	mails := map[string]string{}
	for _, n := range near {
		for _, m := range mail.FindAllString(signs.Replace(n.String()), -1) {
			mails[s.fake.Email(m)] = m
		}
	}
	plain := func(text []byte) ([]byte, bool) {
		out, changed := s.back.texts.exchange(text)
		out = mail.ReplaceAllFunc(out, func(m []byte) []byte {
			was, known := mails[strings.ToLower(string(m))]
			if !known {
				return m
			}
			changed = true
			return []byte(was)
		})
		return out, changed
	}
	left := false
	out := rewrite.Texts(v, func(text []byte) ([]byte, bool) {
		out, changed := plain(text)
		if inner, is := inBase64(out, plain); is {
			out, changed = inner, true
		}
		left = left || invented(string(out))
		inBase64(out, func(in []byte) ([]byte, bool) {
			left = left || invented(string(in))
			return in, false
		})
		return out, changed
	})
	if left {
		return nil, ErrMadeUp
	}
	return out, nil
}

// inventions are what nobody has but those who are made up.
var inventions = regexp.MustCompile(`(?i)(@|%40|&#0*64;|&#x0*40;|&commat;)` + regexp.QuoteMeta(Domain) +
	`|someone-[0-9a-f]{10}|\+999 \d{3} \d{3} \d{3}|XX00\d{18}|\b198\.1[89]\.\d+\.\d+|\b2001:db8::`)

// invented tells whether a text names somebody who is made up.
func invented(text string) bool {
	if inventions.MatchString(text) {
		return true
	}
	for w := range strings.FieldsFuncSeq(text, func(r rune) bool { return !unicode.IsLetter(r) }) {
		if madeUp[strings.ToLower(w)] {
			return true
		}
	}
	return false
}
