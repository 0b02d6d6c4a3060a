package tables

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// ErrReadOnly is given for a statement that may write, where nothing is to be
// written.
var ErrReadOnly = errors.New("only reading is allowed here")

// reading are the first words of statements that only read.
var reading = []string{"select", "show", "describe", "desc", "explain", "with", "values", "table"}

// refusedWords are words of statements that begin as reading ones and do more, such
// as to keep others waiting; those that write a file on the server beside them.
var refusedWords = map[string]string{
	"into":      "puts what it reads somewhere",
	"load_file": "reads a file of the server", "get_lock": "locks others out", "sleep": "waits",
	"benchmark": "keeps the server busy",
	"update":    "writes or locks", "share": "locks rows", "insert": "writes", "delete": "writes", "replace": "writes",
	"nextval": "writes", "setval": "writes",
}

// OnlyReads refuses a statement that does not read as one that only reads. It is
// the first of several bars: others are the server's own.
func OnlyReads(statement string) error {
	words, err := words(statement)
	if err != nil {
		return err
	}
	if len(words) == 0 || !slices.Contains(reading, words[0].text) {
		first := ""
		if len(words) > 0 {
			first = words[0].text
		}
		return fmt.Errorf("%w: %q writes, or is no statement", ErrReadOnly, first)
	}
	for _, w := range words[1:] {
		if w.text == "outfile" || w.text == "dumpfile" {
			return fmt.Errorf("%w: %q writes a file on the server", ErrReadOnly, w.text)
		}
	}
	for _, w := range words[1:] {
		why, refused := refusedWords[w.text]
		if w.text == "replace" || w.text == "insert" { // functions of these names change texts
			refused = refused && !w.called
		}
		if refused {
			return fmt.Errorf("%w: %q %s", ErrReadOnly, w.text, why)
		}
	}
	return nil
}

// word is an unquoted word of a statement.
type word struct {
	text   string
	called bool // a parenthesis follows
	end    int  // where it ends in the statement
}

// words takes a statement apart as MariaDB and MySQL do, and gives what stands in
// neither a string, a quoted name nor a comment. Comments whose text the server
// runs ("/*! ... */", "/*M! ... */") are refused, since versions read them differently.
// Source: "Comment Syntax" and "String Literals" of the MariaDB documentation.
func words(s string) (out []word, err error) {
	for i := 0; i < len(s); {
		switch c := s[i]; {
		case c == '\'' || c == '"' || c == '`':
			if i, err = quotedEnd(s, i); err != nil {
				return nil, err
			}
		case c == '#', strings.HasPrefix(s[i:], "--") && (i+2 == len(s) || s[i+2] <= ' '):
			if n := strings.IndexByte(s[i:], '\n'); n >= 0 {
				i += n + 1
			} else {
				i = len(s)
			}
		case strings.HasPrefix(s[i:], "/*!"), strings.HasPrefix(s[i:], "/*M!"):
			return nil, fmt.Errorf("%w: a comment whose text the server runs", ErrReadOnly)
		case strings.HasPrefix(s[i:], "/*"):
			n := strings.Index(s[i+2:], "*/")
			if n < 0 {
				return nil, fmt.Errorf("%w: a comment has no end", ErrReadOnly)
			}
			i += 2 + n + 2
		default:
			r, size := utf8.DecodeRuneInString(s[i:])
			if !isWord(r) {
				i += size
				if c == '(' && len(out) > 0 && strings.TrimSpace(s[out[len(out)-1].end:i-1]) == "" {
					out[len(out)-1].called = true
				}
				continue
			}
			from := i
			for i < len(s) {
				if r, size = utf8.DecodeRuneInString(s[i:]); !isWord(r) {
					break
				}
				i += size
			}
			out = append(out, word{text: strings.ToLower(s[from:i]), end: i})
		}
	}
	return out, nil
}

func isWord(r rune) bool { return r == '_' || r == '$' || unicode.IsLetter(r) || unicode.IsDigit(r) }

// quotedEnd gives the place behind the string or name that begins at i.
func quotedEnd(s string, i int) (int, error) {
	q := s[i]
	for i++; i < len(s); i++ {
		switch {
		case s[i] == '\\' && q != '`':
			i++
		case s[i] == q && i+1 < len(s) && s[i+1] == q:
			i++
		case s[i] == q:
			return i + 1, nil
		}
	}
	return 0, fmt.Errorf("%w: a quotation mark %c has no second one", ErrReadOnly, q)
}
