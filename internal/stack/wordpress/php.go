package wordpress

import (
	"path"
	"strconv"
	"strings"
)

// A reader of PHP source as far as configuration files need it: real tokens
// (https://www.php.net/manual/en/tokens.php), so that comments, strings and
// inline HTML are what they are, and the few expressions in which people write
// a constant. Nothing is run.

type tok struct {
	kind   byte // 'i' identifier, 'v' variable, 's' string, 'n' number, 'o' open tag, or the punctuation itself
	text   string
	lo, hi int  // in the source
	plain  bool // a string without interpolation: text is its value
}

func phpTokens(src string) []tok {
	var out []tok
	for i := strings.Index(src, "<?"); i >= 0 && i < len(src); {
		if strings.HasPrefix(src[i:], "<?") {
			lo := i
			i += 2
			for _, tag := range []string{"php", "PHP", "="} {
				if strings.HasPrefix(src[i:], tag) {
					i += len(tag)
					break
				}
			}
			out = append(out, tok{kind: 'o', lo: lo, hi: i})
		}
		t, next, more := phpToken(src, i)
		if t.kind != 0 {
			out = append(out, t)
		}
		i = next
		if !more { // a closing tag: skip to the next opening one
			k := strings.Index(src[i:], "<?")
			if k < 0 {
				break
			}
			i += k
		}
	}
	return out
}

// phpToken reads one token at i; a zero kind is white space or a comment.
func phpToken(src string, i int) (t tok, next int, more bool) {
	if i >= len(src) {
		return t, len(src), true
	}
	c := src[i]
	until := func(end string) int {
		if k := strings.Index(src[i:], end); k >= 0 {
			return i + k + len(end)
		}
		return len(src)
	}
	switch {
	case strings.HasPrefix(src[i:], "?>"):
		return t, i + 2, false
	case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		return t, i + 1, true
	case strings.HasPrefix(src[i:], "/*"):
		return t, until("*/"), true
	case strings.HasPrefix(src[i:], "//") || c == '#' && !strings.HasPrefix(src[i:], "#["):
		end := until("\n")
		if k := strings.Index(src[i:end], "?>"); k >= 0 {
			end = i + k // a closing tag ends a one-line comment
		}
		return t, end, true
	case c == '\'' || c == '"':
		return phpString(src, i)
	case strings.HasPrefix(src[i:], "<<<"):
		return heredoc(src, i)
	case c == '$' && i+1 < len(src) && identStart(src[i+1]):
		j := i + 1
		for j < len(src) && identPart(src[j]) {
			j++
		}
		return tok{kind: 'v', text: src[i+1 : j], lo: i, hi: j}, j, true
	case identStart(c) || c == '\\':
		j := i + 1
		for j < len(src) && (identPart(src[j]) || src[j] == '\\') {
			j++
		}
		return tok{kind: 'i', text: strings.TrimPrefix(src[i:j], "\\"), lo: i, hi: j}, j, true
	case c >= '0' && c <= '9':
		j := i + 1
		for j < len(src) && (identPart(src[j]) || src[j] == '.') {
			j++
		}
		return tok{kind: 'n', text: src[i:j], lo: i, hi: j}, j, true
	}
	return tok{kind: c, text: string(c), lo: i, hi: i + 1}, i + 1, true
}

func identStart(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
func identPart(c byte) bool { return identStart(c) || c >= '0' && c <= '9' }

func phpString(src string, i int) (tok, int, bool) {
	q := src[i]
	t := tok{kind: 's', lo: i, plain: true}
	var b strings.Builder
	j := i + 1
	for ; j < len(src) && src[j] != q; j++ {
		c := src[j]
		if c == '\\' && j+1 < len(src) {
			j++
			b.WriteString(unescapePHP(q, src[j]))
			continue
		}
		if q == '"' &&
			(c == '$' && j+1 < len(src) && (identStart(src[j+1]) || src[j+1] == '{') ||
				c == '{' && j+1 < len(src) && src[j+1] == '$') {
			t.plain = false
		}
		b.WriteByte(c)
	}
	t.text, t.hi = b.String(), min(j+1, len(src))
	return t, t.hi, true
}

func unescapePHP(q, c byte) string {
	if c == q || c == '\\' {
		return string(c)
	}
	if q == '"' {
		switch c {
		case 'n':
			return "\n"
		case 't':
			return "\t"
		case 'r':
			return "\r"
		case '$':
			return "$"
		}
	}
	return "\\" + string(c)
}

func heredoc(src string, i int) (tok, int, bool) {
	line := strings.IndexByte(src[i:], '\n')
	if line < 0 {
		return tok{}, len(src), true
	}
	raw := strings.TrimSpace(src[i+3 : i+line])
	label := strings.Trim(raw, `"'`)
	body := src[i+line+1:]
	for at := 0; label != "" && at < len(body); {
		end := strings.IndexByte(body[at:], '\n')
		if end < 0 {
			end = len(body) - at
		}
		if l := strings.TrimLeft(body[at:at+end], " \t"); strings.HasPrefix(l, label) &&
			(len(l) == len(label) || !identPart(l[len(label)])) {
			text := strings.TrimSuffix(body[:at], "\n")
			hi := i + line + 1 + at + (len(body[at:at+end]) - len(l)) + len(label)
			return tok{
				kind:  's',
				text:  text,
				lo:    i,
				hi:    hi,
				plain: strings.HasPrefix(raw, "'") || !strings.Contains(text, "$"),
			}, hi, true
		}
		at += end + 1
	}
	return tok{}, len(src), true
}

// setting is a constant or variable of a configuration.
type setting struct {
	value  string
	known  bool   // the value could be worked out
	env    string // the environment variable that it comes from, if any
	lo, hi int    // the expression in the source
}

// config is what a configuration file sets.
type config struct {
	src       string
	constants map[string]setting
	variables map[string]setting
	placed    map[string][]bool    // of each constant: the places where it is set, and whether each is in a branch
	includes  []string             // what it includes beside the core, as far as it can be told
	each      map[string][]setting // of each constant: what it is set to in each of those places
	evaluated bool                 // PHP said what it sets
	chosen    bool                 // which of its databases is meant is known
	why       error                // why PHP could not say it, where it was asked
}

// readConfig reads src, which stands at the absolute path file.
func readConfig(src, file string) config {
	c := config{
		src:       src,
		constants: map[string]setting{},
		variables: map[string]setting{},
		placed:    map[string][]bool{},
		each:      map[string][]setting{},
	}
	toks := phpTokens(src)
	depth := 0
	for i := 0; i < len(toks); i++ {
		switch toks[i].kind {
		case '{':
			depth++
		case '}':
			depth--
		}
		t := toks[i]
		next := func(k int) tok {
			if i+k < len(toks) {
				return toks[i+k]
			}
			return tok{}
		}
		switch {
		case t.kind == 'i' && strings.EqualFold(t.text, "define") && next(1).kind == '(' && next(2).kind == 's' &&
			next(3).kind == ',':
			name, one := next(2).text, map[string]setting{}
			c.set(one, name, toks, i+4, file)
			if _, there := c.constants[name]; !there {
				c.constants[name] = one[name]
			}
			c.each[name] = append(c.each[name], one[name])
			c.placed[name] = append(c.placed[name], depth > 0 || branched(toks, i))
		case t.kind == 'i' && including[strings.ToLower(t.text)]:
			c.include(toks, i+1, file)
		case t.kind == 'i' && strings.EqualFold(t.text, "const") && next(1).kind == 'i' && next(2).kind == '=':
			c.set(c.constants, next(1).text, toks, i+3, file)
		case t.kind == 'v' && next(1).kind == '=' && next(2).kind != '=':
			delete(c.variables, t.text) // a later assignment counts
			c.set(c.variables, t.text, toks, i+2, file)
		}
	}
	return c
}

// including are the words with which PHP runs another file.
var including = map[string]bool{"require": true, "require_once": true, "include": true, "include_once": true}

// branched tells whether a call is what an if, an else or an operator does.
func branched(toks []tok, i int) bool {
	if i == 0 {
		return false
	}
	switch p := toks[i-1]; p.kind {
	case ';', 'o', '{', '}':
		return false
	case ')': // of an if, or of a condition that || or && follows
		return true
	case 'i':
		return true
	}
	return true
}

// include notes a file that the configuration runs, unless it is the core's.
func (c *config) include(toks []tok, i int, file string) {
	e := eval{c: c, toks: toks, i: i, file: file}
	s := e.concat()
	name := s.value
	if !s.known && name == "" {
		name = "a file whose name it works out"
	}
	if !strings.HasSuffix(name, "wp-settings.php") {
		c.includes = append(c.includes, name)
	}
}

// set evaluates the expression at toks[i]. The first definition of a constant
// is the one that counts, as in PHP.
func (c *config) set(in map[string]setting, name string, toks []tok, i int, file string) {
	if _, there := in[name]; there {
		return
	}
	e := eval{c: c, toks: toks, i: i, file: file}
	s := e.concat()
	if end := min(e.i, len(toks)); end > i {
		s.lo, s.hi = toks[i].lo, toks[end-1].hi
		in[name] = s
	}
}

// eval works out the expressions that configurations are written in.
type eval struct {
	c    *config
	toks []tok
	i    int
	file string
}

func (e *eval) peek() tok {
	if e.i < len(e.toks) {
		return e.toks[e.i]
	}
	return tok{}
}

// concat is terms joined by dots, with ?: or ?? and what to use instead.
func (e *eval) concat() setting {
	s := e.term()
	for {
		switch t := e.peek(); {
		case t.kind == '.':
			e.i++
			r := e.term()
			s = setting{value: s.value + r.value, known: s.known && r.known, env: s.env + r.env}
		case t.kind == '?' && e.i+1 < len(e.toks) && (e.toks[e.i+1].kind == ':' || e.toks[e.i+1].kind == '?'):
			e.i += 2
			r := e.term()
			if s.env != "" || !s.known {
				r.env = s.env
				s = r
			}
		case t.kind == 0 || t.kind == ';' || t.kind == ')' || t.kind == ',':
			return s
		default: // something else: skip it, and say that we do not know
			s.known = false
			e.skip()
			return s
		}
	}
}

// skip moves to the end of the expression.
func (e *eval) skip() {
	for depth := 0; e.i < len(e.toks); e.i++ {
		switch e.toks[e.i].kind {
		case '(', '[':
			depth++
		case ')', ']':
			if depth == 0 {
				return
			}
			depth--
		case ';', ',':
			if depth == 0 {
				return
			}
		}
	}
}

func (e *eval) term() setting {
	t := e.peek()
	e.i++
	switch t.kind {
	case 's':
		return setting{value: t.text, known: t.plain}
	case 'n':
		return setting{value: t.text, known: true}
	case '(':
		s := e.concat()
		e.i++
		return s
	case 'v':
		if e.peek().kind == '[' { // $_ENV['X'], $_SERVER['X']
			e.i++
			key := e.term()
			e.i++
			return setting{env: key.value}
		}
		return e.c.variables[t.text]
	case 'i':
		return e.word(t)
	}
	e.i--
	e.skip()
	return setting{}
}

func (e *eval) word(t tok) setting {
	low := strings.ToLower(t.text)
	if e.peek().kind == '(' {
		e.i++
		arg, levels := e.concat(), 1
		for e.peek().kind == ',' {
			e.i++
			if n, err := strconv.Atoi(e.concat().value); err == nil {
				levels = min(n, 20)
			}
		}
		e.i++
		switch low {
		case "dirname":
			for range levels {
				arg.value = path.Dir(arg.value)
			}
			return setting{value: arg.value, known: arg.known}
		case "getenv", "env":
			return setting{env: arg.value}
		case "realpath", "rtrim", "trim":
			return setting{value: strings.TrimRight(arg.value, "/ "), known: arg.known}
		}
		return setting{}
	}
	switch low {
	case "true":
		return setting{value: "1", known: true}
	case "false", "null":
		return setting{known: true}
	case "__dir__":
		return setting{value: path.Dir(e.file), known: true}
	case "__file__":
		return setting{value: e.file, known: true}
	}
	return e.c.constants[t.text]
}

// with returns the source with a constant set: in place where it is defined,
// else behind the first opening tag. literal is PHP.
func (c config) with(name, literal string) string {
	if s, ok := c.constants[name]; ok {
		return c.src[:s.lo] + literal + c.src[s.hi:]
	}
	line := "\ndefine( '" + name + "', " + literal + " );"
	for _, t := range phpTokens(c.src) {
		if t.kind == 'o' {
			return c.src[:t.hi] + line + c.src[t.hi:]
		}
	}
	return "<?php" + line + "\n?>" + c.src
}

// phpLiteral writes a string as PHP.
func phpLiteral(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}
