// Package phpsrc reads PHP source as far as configuration files need it: real tokens
// (https://www.php.net/manual/en/tokens.php), so that comments, strings and inline HTML
// are what they are, and the few expressions in which people write a constant. Nothing
// is run.
package phpsrc

import (
	"path"
	"strconv"
	"strings"
)

// Token is one of PHP source.
type Token struct {
	Kind   byte // 'i' identifier, 'v' variable, 's' string, 'n' number, 'o' open tag, or the punctuation itself
	Text   string
	Lo, Hi int  // in the source
	Plain  bool // a string without interpolation: text is its value
}

// Tokens reads source, without white space and comments.
func Tokens(src string) []Token {
	var out []Token
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
			out = append(out, Token{Kind: 'o', Lo: lo, Hi: i})
		}
		t, next, more := phpToken(src, i)
		if t.Kind != 0 {
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
func phpToken(src string, i int) (t Token, next int, more bool) {
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
		return Token{Kind: 'v', Text: src[i+1 : j], Lo: i, Hi: j}, j, true
	case identStart(c) || c == '\\':
		j := i + 1
		for j < len(src) && (identPart(src[j]) || src[j] == '\\') {
			j++
		}
		return Token{Kind: 'i', Text: strings.TrimPrefix(src[i:j], "\\"), Lo: i, Hi: j}, j, true
	case c >= '0' && c <= '9':
		j := i + 1
		for j < len(src) && (identPart(src[j]) || src[j] == '.') {
			j++
		}
		return Token{Kind: 'n', Text: src[i:j], Lo: i, Hi: j}, j, true
	}
	return Token{Kind: c, Text: string(c), Lo: i, Hi: i + 1}, i + 1, true
}

func identStart(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
func identPart(c byte) bool { return identStart(c) || c >= '0' && c <= '9' }

func phpString(src string, i int) (Token, int, bool) {
	q := src[i]
	t := Token{Kind: 's', Lo: i, Plain: true}
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
			t.Plain = false
		}
		b.WriteByte(c)
	}
	t.Text, t.Hi = b.String(), min(j+1, len(src))
	return t, t.Hi, true
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

func heredoc(src string, i int) (Token, int, bool) {
	line := strings.IndexByte(src[i:], '\n')
	if line < 0 {
		return Token{}, len(src), true
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
			return Token{
				Kind:  's',
				Text:  text,
				Lo:    i,
				Hi:    hi,
				Plain: strings.HasPrefix(raw, "'") || !strings.Contains(text, "$"),
			}, hi, true
		}
		at += end + 1
	}
	return Token{}, len(src), true
}

// Setting is a constant or variable of a configuration.
type Setting struct {
	Value  string
	Known  bool   // the value could be worked out
	Env    string // the environment variable that it comes from, if any
	Lo, Hi int    // the expression in the source
}

// Config is what a configuration file sets.
type Config struct {
	Src       string
	Constants map[string]Setting
	Variables map[string]Setting
	Placed    map[string][]bool    // of each constant: the places where it is set, and whether each is in a branch
	Includes  []string             // what it includes, as far as it can be told
	Each      map[string][]Setting // of each constant: what it is set to in each of those places
}

// Read reads src, which stands at the absolute path file.
func Read(src, file string) Config {
	c := Config{
		Src:       src,
		Constants: map[string]Setting{},
		Variables: map[string]Setting{},
		Placed:    map[string][]bool{},
		Each:      map[string][]Setting{},
	}
	toks := Tokens(src)
	depth := 0
	for i := 0; i < len(toks); i++ {
		switch toks[i].Kind {
		case '{':
			depth++
		case '}':
			depth--
		}
		t := toks[i]
		next := func(k int) Token {
			if i+k < len(toks) {
				return toks[i+k]
			}
			return Token{}
		}
		switch {
		case t.Kind == 'i' && strings.EqualFold(t.Text, "define") && next(1).Kind == '(' && next(2).Kind == 's' &&
			next(3).Kind == ',':
			name, one := next(2).Text, map[string]Setting{}
			c.set(one, name, toks, i+4, file)
			if _, there := c.Constants[name]; !there {
				c.Constants[name] = one[name]
			}
			c.Each[name] = append(c.Each[name], one[name])
			c.Placed[name] = append(c.Placed[name], depth > 0 || branched(toks, i))
		case t.Kind == 'i' && including[strings.ToLower(t.Text)]:
			c.include(toks, i+1, file)
		case t.Kind == 'i' && strings.EqualFold(t.Text, "const") && next(1).Kind == 'i' && next(2).Kind == '=':
			c.set(c.Constants, next(1).Text, toks, i+3, file)
		case t.Kind == 'v' && next(1).Kind == '=' && next(2).Kind != '=':
			delete(c.Variables, t.Text) // a later assignment counts
			c.set(c.Variables, t.Text, toks, i+2, file)
		}
	}
	return c
}

// including are the words with which PHP runs another file.
var including = map[string]bool{"require": true, "require_once": true, "include": true, "include_once": true}

// branched tells whether a call is what an if, an else or an operator does.
func branched(toks []Token, i int) bool {
	if i == 0 {
		return false
	}
	switch p := toks[i-1]; p.Kind {
	case ';', 'o', '{', '}':
		return false
	case ')': // of an if, or of a condition that || or && follows
		return true
	case 'i':
		return true
	}
	return true
}

// include notes a file that the configuration runs.
func (c *Config) include(toks []Token, i int, file string) {
	e := eval{c: c, toks: toks, i: i, file: file}
	s := e.concat()
	name := s.Value
	if !s.Known && name == "" {
		name = "a file whose name it works out"
	}
	c.Includes = append(c.Includes, name)
}

// set evaluates the expression at toks[i]. The first definition of a constant
// is the one that counts, as in PHP.
func (c *Config) set(in map[string]Setting, name string, toks []Token, i int, file string) {
	if _, there := in[name]; there {
		return
	}
	e := eval{c: c, toks: toks, i: i, file: file}
	s := e.concat()
	if end := min(e.i, len(toks)); end > i {
		s.Lo, s.Hi = toks[i].Lo, toks[end-1].Hi
		in[name] = s
	}
}

// eval works out the expressions that configurations are written in.
type eval struct {
	c    *Config
	toks []Token
	i    int
	file string
}

func (e *eval) peek() Token {
	if e.i < len(e.toks) {
		return e.toks[e.i]
	}
	return Token{}
}

// concat is terms joined by dots, with ?: or ?? and what to use instead.
func (e *eval) concat() Setting {
	s := e.term()
	for {
		switch t := e.peek(); {
		case t.Kind == '.':
			e.i++
			r := e.term()
			s = Setting{Value: s.Value + r.Value, Known: s.Known && r.Known, Env: s.Env + r.Env}
		case t.Kind == '?' && e.i+1 < len(e.toks) && (e.toks[e.i+1].Kind == ':' || e.toks[e.i+1].Kind == '?'):
			e.i += 2
			r := e.term()
			if s.Env != "" || !s.Known {
				r.Env = s.Env
				s = r
			}
		case t.Kind == 0 || t.Kind == ';' || t.Kind == ')' || t.Kind == ',':
			return s
		default: // something else: skip it, and say that we do not know
			s.Known = false
			e.skip()
			return s
		}
	}
}

// skip moves to the end of the expression.
func (e *eval) skip() {
	for depth := 0; e.i < len(e.toks); e.i++ {
		switch e.toks[e.i].Kind {
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

func (e *eval) term() Setting {
	t := e.peek()
	e.i++
	switch t.Kind {
	case 's':
		return Setting{Value: t.Text, Known: t.Plain}
	case 'n':
		return Setting{Value: t.Text, Known: true}
	case '(':
		s := e.concat()
		e.i++
		return s
	case 'v':
		if e.peek().Kind == '[' { // $_ENV['X'], $_SERVER['X']
			e.i++
			key := e.term()
			e.i++
			return Setting{Env: key.Value}
		}
		return e.c.Variables[t.Text]
	case 'i':
		return e.word(t)
	}
	e.i--
	e.skip()
	return Setting{}
}

func (e *eval) word(t Token) Setting {
	low := strings.ToLower(t.Text)
	if e.peek().Kind == '(' {
		e.i++
		arg, levels := e.concat(), 1
		for e.peek().Kind == ',' {
			e.i++
			if n, err := strconv.Atoi(e.concat().Value); err == nil {
				levels = min(n, 20)
			}
		}
		e.i++
		switch low {
		case "dirname":
			for range levels {
				arg.Value = path.Dir(arg.Value)
			}
			return Setting{Value: arg.Value, Known: arg.Known}
		case "getenv", "env":
			return Setting{Env: arg.Value}
		case "realpath", "rtrim", "trim":
			return Setting{Value: strings.TrimRight(arg.Value, "/ "), Known: arg.Known}
		}
		return Setting{}
	}
	switch low {
	case "true":
		return Setting{Value: "1", Known: true}
	case "false", "null":
		return Setting{Known: true}
	case "__dir__":
		return Setting{Value: path.Dir(e.file), Known: true}
	case "__file__":
		return Setting{Value: e.file, Known: true}
	}
	return e.c.Constants[t.Text]
}

// With returns the source with a constant set: in place where it is defined,
// else behind the first opening tag. literal is PHP.
func (c Config) With(name, literal string) string {
	if s, ok := c.Constants[name]; ok {
		return c.Src[:s.Lo] + literal + c.Src[s.Hi:]
	}
	line := "\ndefine( '" + name + "', " + literal + " );"
	for _, t := range Tokens(c.Src) {
		if t.Kind == 'o' {
			return c.Src[:t.Hi] + line + c.Src[t.Hi:]
		}
	}
	return "<?php" + line + "\n?>" + c.Src
}

// Literal writes a string as PHP.
func Literal(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
}
