// Package printable makes text that is not ours safe to show: titles, names of
// plugins, files and columns, logs, rows, errors of remote programs. Characters
// that a terminal obeys (C0, C1, DEL) or that turn the reading order around
// (bidirectional controls) become a visible mark, so that what is seen is what is
// there.
//
// Sources: ECMA-48; Unicode Standard Annex 9, 2.7.
package printable

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// mark stands in the place of a character that must not be shown.
const mark = '?'

// obeyed tells whether a terminal would do something for a character.
func obeyed(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069: // bidirectional
		return true
	case r == 0x2028, r == 0x2029: // ends of lines and paragraphs
		return true
	}
	return false
}

func replaced(r rune, keep string) rune {
	if (obeyed(r) || r == utf8.RuneError) && !strings.ContainsRune(keep, r) {
		return mark
	}
	return r
}

// Line makes text safe to stand in one line.
func Line(s string) string {
	return strings.Map(func(r rune) rune { return replaced(r, "") }, s)
}

// Frame makes a whole screen safe that holds our own escape sequences: all but
// these, and the ends of lines, is as in Line.
func Frame(s string) string {
	return strings.Map(func(r rune) rune { return replaced(r, "\x1b\n") }, s)
}

// JSON escapes in JSON text what encoding/json leaves as it is.
func JSON(b []byte) []byte {
	clean := true
	for _, r := range string(b) {
		clean = clean && (r == '\n' || !obeyed(r))
	}
	if clean {
		return b
	}
	out := make([]byte, 0, len(b)+64)
	for _, r := range string(b) {
		if r != '\n' && obeyed(r) {
			out = fmt.Appendf(out, `\u%04x`, r)
		} else {
			out = utf8.AppendRune(out, r)
		}
	}
	return out
}

// Writer makes what is written through it safe; lines and tabs stay.
type Writer struct {
	to   io.Writer
	rest []byte // of a character that was cut
}

// NewWriter gives a Writer to to.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

func (w *Writer) Write(p []byte) (int, error) {
	b := append(w.rest, p...)
	w.rest = nil
	out := make([]byte, 0, len(b))
	for len(b) > 0 {
		r, size := utf8.DecodeRune(b)
		if r == utf8.RuneError && size == 1 && !utf8.FullRune(b) {
			w.rest = append([]byte{}, b...)
			break
		}
		out = utf8.AppendRune(out, replaced(r, "\n\t"))
		b = b[size:]
	}
	if _, err := w.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}
