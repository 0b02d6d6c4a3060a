// Package phpval reads and edits PHP's serialized values without running PHP.
//
// The format is the one that PHP's serialize() writes and unserialize() reads
// (https://www.php.net/manual/en/function.serialize.php): a value is a letter,
// its length or number, and its payload, and lengths count bytes. Edit changes
// string payloads in place and sets their lengths anew; Parse builds a tree for
// code that wants to look inside; Marshal writes a tree.
//
// All three stand on one iterative scanner: hostile nesting costs memory for a
// stack of small frames, never Go stack, and no input makes it loop.
package phpval

import (
	"bytes"
	"errors"
	"fmt"
)

// MaxDepth is how deep containers may nest; it is PHP's own default for
// unserialize_max_depth.
const MaxDepth = 4096

// ErrSyntax is wrapped by every error about a value that is not well formed.
var ErrSyntax = errors.New("not a well-formed serialized value")

// Place says what a string is to its container.
type Place uint8

const (
	Text   Place = iota // a string value
	Key                 // a key of an array
	Name                // a property name of an object
	Opaque              // what a class with its own serialization wrote (C:)
)

type token struct {
	kind         byte // N b i d s S a O C E r R, or '}' when a container ends
	place        Place
	lenLo, lenHi int // digits of the payload's length
	lo, hi       int // payload, or the digits of a number
	classLo      int // class name, for O, C and E
	classHi      int
	n            int // elements of a container
}

type frame struct {
	left   int // keys and values still to come
	object bool
}

type scanner struct {
	src   []byte
	pos   int
	stack []frame
	begun bool
}

// more tells whether the value is not complete yet.
func (s *scanner) more() bool { return !s.begun || len(s.stack) > 0 }

func (s *scanner) fail(what string) error {
	return fmt.Errorf("%w: %s at byte %d", ErrSyntax, what, s.pos)
}

// next reads the token at the scanner's position into t and moves behind it.
func (s *scanner) next(t *token) error {
	s.begun = true
	t.place, t.classLo, t.classHi = Text, 0, 0 // the rest is set by those that have it
	if n := len(s.stack); n > 0 {
		f := &s.stack[n-1]
		if f.left == 0 {
			if !s.eat('}') {
				return s.fail("expected }")
			}
			s.stack = s.stack[:n-1]
			t.kind = '}'
			return nil
		}
		if f.left%2 == 0 {
			t.place = Key
			if f.object {
				t.place = Name
			}
		}
		f.left--
	}
	if s.pos >= len(s.src) {
		return s.fail("value cut off")
	}
	t.kind = s.src[s.pos]
	s.pos++
	if t.place != Text && t.kind != 'i' && t.kind != 's' && t.kind != 'S' {
		return s.fail("a key is neither a number nor a string")
	}
	return s.body(t)
}

func (s *scanner) body(t *token) error {
	if t.kind == 'N' {
		return s.want(';')
	}
	if err := s.want(':'); err != nil {
		return err
	}
	switch t.kind {
	case 'b', 'i', 'd', 'r', 'R':
		return s.number(t)
	case 's':
		return s.str(t)
	case 'S':
		return s.escaped(t)
	case 'E':
		if err := s.str(t); err != nil {
			return err
		}
		t.classLo, t.classHi = t.lo, t.hi
		if bytes.IndexByte(s.src[t.lo:t.hi], ':') < 1 {
			return s.fail("an enum without a case")
		}
		return nil
	case 'a':
		return s.open(t, false)
	case 'O':
		if err := s.class(t); err != nil {
			return err
		}
		return s.open(t, true)
	case 'C':
		return s.custom(t)
	}
	return s.fail(fmt.Sprintf("unknown type %q", t.kind))
}

func (s *scanner) eat(c byte) bool {
	if s.pos < len(s.src) && s.src[s.pos] == c {
		s.pos++
		return true
	}
	return false
}

func (s *scanner) want(c byte) error {
	if s.eat(c) {
		return nil
	}
	return s.fail("expected " + string(rune(c)))
}

// skip passes by the strings at the scanner's position that are usual and end
// before limit, without making tokens of them.
func (s *scanner) skip(limit int) {
	if len(s.stack) == 0 {
		return
	}
	f := &s.stack[len(s.stack)-1]
	src := s.src
	for i := s.pos; f.left > 0 && i+1 < len(src) && src[i] == 's' && src[i+1] == ':'; i = s.pos {
		n, j := 0, i+2
		for ; j < len(src) && j < i+11 && src[j] >= '0' && src[j] <= '9'; j++ {
			n = n*10 + int(src[j]-'0')
		}
		end := j + 2 + n
		if j == i+2 || end >= limit || end+1 >= len(src) || src[j] != ':' || src[j+1] != '"' || src[end] != '"' ||
			src[end+1] != ';' {
			return
		}
		f.left--
		s.pos = end + 2
	}
}

// number takes the digits of a scalar up to its semicolon.
func (s *scanner) number(t *token) error {
	t.lo = s.pos
	for s.pos < len(s.src) && s.src[s.pos] != ';' {
		s.pos++
	}
	t.hi = s.pos
	text := s.src[t.lo:t.hi]
	ok := false
	switch t.kind {
	case 'b':
		ok = len(text) == 1 && (text[0] == '0' || text[0] == '1')
	case 'i':
		if len(text) > 0 && (text[0] == '-' || text[0] == '+') {
			text = text[1:]
		}
		ok = digits(text)
	case 'r', 'R':
		ok = digits(text)
	case 'd':
		ok = float(text)
	}
	if !ok {
		return s.fail("a number that is none")
	}
	return s.want(';')
}

func digits(b []byte) bool {
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(b) > 0 && len(b) < 40
}

func float(b []byte) bool {
	switch string(b) {
	case "INF", "-INF", "NAN":
		return true
	}
	seen := false
	for i, c := range b {
		switch {
		case c >= '0' && c <= '9':
			seen = true
		case c == '.':
		case c == '-' || c == '+':
			if i > 0 && b[i-1] != 'e' && b[i-1] != 'E' {
				return false
			}
		case (c == 'e' || c == 'E') && seen:
		default:
			return false
		}
	}
	return seen
}

// length takes a decimal length that can't reach beyond the input.
func (s *scanner) length() (int, error) {
	n, from := 0, s.pos
	for s.pos < len(s.src) && s.src[s.pos] >= '0' && s.src[s.pos] <= '9' {
		n = n*10 + int(s.src[s.pos]-'0')
		if n > len(s.src) {
			return 0, s.fail("a length beyond the end")
		}
		s.pos++
	}
	if s.pos == from {
		return 0, s.fail("expected a length")
	}
	return n, nil
}

// quoted takes LEN:"payload" and leaves the scanner behind the closing quote.
func (s *scanner) quoted() (lenLo, lenHi, lo, hi int, err error) {
	lenLo = s.pos
	n, err := s.length()
	if err != nil {
		return
	}
	lenHi = s.pos
	if !s.eat(':') || !s.eat('"') {
		err = s.fail(`expected :"`)
		return
	}
	lo, hi = s.pos, s.pos+n
	if hi >= len(s.src) || s.src[hi] != '"' {
		err = s.fail("a string whose length is wrong")
		return
	}
	s.pos = hi + 1
	return
}

// str takes LEN:"payload";. Most of a value is strings, so the usual case is
// written out.
func (s *scanner) str(t *token) (err error) {
	src, i, n := s.src, s.pos, 0
	for i < len(src) && src[i] >= '0' && src[i] <= '9' && i-s.pos < 9 {
		n = n*10 + int(src[i]-'0')
		i++
	}
	if end := i + 2 + n; i > s.pos && end+1 < len(src) && src[i] == ':' && src[i+1] == '"' && src[end] == '"' &&
		src[end+1] == ';' {
		t.lenLo, t.lenHi, t.lo, t.hi = s.pos, i, i+2, end
		s.pos = end + 2
		return nil
	}
	if t.lenLo, t.lenHi, t.lo, t.hi, err = s.quoted(); err != nil {
		return err
	}
	return s.want(';')
}

// escaped takes S:, whose length counts \xx as one byte.
func (s *scanner) escaped(t *token) error {
	t.lenLo = s.pos
	n, err := s.length()
	if err != nil {
		return err
	}
	t.lenHi = s.pos
	if !s.eat(':') || !s.eat('"') {
		return s.fail(`expected :"`)
	}
	t.lo = s.pos
	for range n {
		if s.eat('\\') {
			if s.pos+2 > len(s.src) || unhex(s.src[s.pos]) < 0 || unhex(s.src[s.pos+1]) < 0 {
				return s.fail(`a bad \xx`)
			}
			s.pos++
		}
		s.pos++
	}
	t.hi = s.pos
	if s.pos >= len(s.src) || !s.eat('"') {
		return s.fail("a string whose length is wrong")
	}
	return s.want(';')
}

func (s *scanner) class(t *token) (err error) {
	if _, _, t.classLo, t.classHi, err = s.quoted(); err != nil {
		return err
	}
	if t.classLo == t.classHi {
		return s.fail("an object without a class")
	}
	return s.want(':')
}

func (s *scanner) open(t *token, object bool) (err error) {
	if t.n, err = s.length(); err != nil {
		return err
	}
	if len(s.stack) >= MaxDepth {
		return s.fail("nested too deeply")
	}
	s.stack = append(s.stack, frame{left: 2 * t.n, object: object})
	if err = s.want(':'); err != nil {
		return err
	}
	return s.want('{')
}

func (s *scanner) custom(t *token) error {
	if err := s.class(t); err != nil {
		return err
	}
	t.place = Opaque
	t.lenLo = s.pos
	n, err := s.length()
	if err != nil {
		return err
	}
	t.lenHi = s.pos
	if !s.eat(':') || !s.eat('{') {
		return s.fail("expected :{")
	}
	t.lo, t.hi = s.pos, s.pos+n
	if t.hi >= len(s.src) {
		return s.fail("a length beyond the end")
	}
	s.pos = t.hi
	return s.want('}')
}

func unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}
