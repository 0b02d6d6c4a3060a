package wordpress

import (
	"path"
	"strings"

	"alibi/internal/host"
	"alibi/internal/stack/phpsrc"
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
	toks := phpsrc.Tokens(src)
	space, depth, base := "", 0, 0
	for i, t := range toks {
		next := func(n int) phpsrc.Token {
			if i+n < len(toks) {
				return toks[i+n]
			}
			return phpsrc.Token{}
		}
		switch {
		case t.Kind == '{':
			depth++
		case t.Kind == '}':
			depth--
		case t.Kind != 'i' || i > 0 && (toks[i-1].Kind == 'i' && strings.EqualFold(toks[i-1].Text, "use") ||
			toks[i-1].Kind == ':' || toks[i-1].Kind == '>'):
		case strings.EqualFold(t.Text, "namespace") && next(1).Kind == 'i':
			space, base = strings.ToLower(next(1).Text)+`\`, depth
			if next(2).Kind == '{' {
				base++
			}
		case depth != base || next(1).Kind != 'i':
		case strings.EqualFold(t.Text, "function") && next(2).Kind == '(':
			out["the function "+space+strings.ToLower(next(1).Text)+"()"] = true
		case strings.EqualFold(t.Text, "class") || strings.EqualFold(t.Text, "interface") ||
			strings.EqualFold(t.Text, "trait"):
			out["the class "+space+next(1).Text] = true
		}
	}
}
