package wordpress

import (
	"path"
	"strings"

	"alibi/internal/host"
)

// Bounds on what is read to find out what a plugin declares.
const (
	maxDeclaring = 400
	maxSource    = 512 << 10
)

// Declared reads the PHP files below a root. A name that is declared inside
// braces may depend on what is there already, and is left out.
func (Stack) Declared(root host.Tree) map[string]bool {
	out := map[string]bool{}
	left := maxDeclaring
	var walk func(dir string, depth int)
	walk = func(dir string, depth int) {
		list, err := root.ReadDir(dir)
		if err != nil || depth > 8 {
			return // what can't be read declares nothing that is known
		}
		for _, fi := range list {
			name := path.Join(dir, fi.Name())
			switch {
			case left == 0:
				return
			case fi.IsDir():
				walk(name, depth+1)
			case strings.HasSuffix(name, ".php") && fi.Size() <= maxSource:
				left--
				if b, err := host.ReadFile(root, name, maxSource); err == nil {
					declarations(string(b), out)
				}
			}
		}
	}
	walk(".", 0)
	return out
}

// declarations adds what a file declares outside of all braces.
func declarations(src string, out map[string]bool) {
	toks := phpTokens(src)
	space, depth, base := "", 0, 0
	for i, t := range toks {
		next := func(n int) tok {
			if i+n < len(toks) {
				return toks[i+n]
			}
			return tok{}
		}
		switch {
		case t.kind == '{':
			depth++
		case t.kind == '}':
			depth--
		case t.kind != 'i' || i > 0 && (toks[i-1].kind == 'i' && strings.EqualFold(toks[i-1].text, "use") ||
			toks[i-1].kind == ':' || toks[i-1].kind == '>'):
		case strings.EqualFold(t.text, "namespace") && next(1).kind == 'i':
			space, base = strings.ToLower(next(1).text)+`\`, depth
			if next(2).kind == '{' {
				base++
			}
		case depth != base || next(1).kind != 'i':
		case strings.EqualFold(t.text, "function") && next(2).kind == '(':
			out["the function "+space+strings.ToLower(next(1).text)+"()"] = true
		case strings.EqualFold(t.text, "class") || strings.EqualFold(t.text, "interface") ||
			strings.EqualFold(t.text, "trait"):
			out["the class "+space+next(1).text] = true
		}
	}
}
