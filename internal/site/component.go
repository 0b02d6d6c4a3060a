package site

import (
	"cmp"
	"fmt"
	"net/url"
	"path"
	"strconv"
	"strings"
	"unicode"
)

// ComponentKind is a kind of part of a site's code.
type ComponentKind string

// The kinds.
const (
	Plugin ComponentKind = "plugin"
	Theme  ComponentKind = "theme"
	Core   ComponentKind = "core"
)

// Source says where a component is to come from.
type Source struct {
	Kind    ComponentKind `json:"kind,omitempty"` // "": what it turns out to be
	Slug    string        `json:"slug,omitempty"`
	Version string        `json:"version,omitempty"` // of the catalogue's; "": the newest
	// "": the catalogue; an archive's address or path, a git repository, or site:NAME
	From   string `json:"from,omitempty"`
	Ref    string `json:"ref,omitempty"`    // of a repository: branch, tag or commit; "": its own choice
	Digest string `json:"digest,omitempty"` // that its files must have; "": any
	Secret string `json:"secret,omitempty"` // file with a key or a token for the repository
}

// Git tells whether the source is a git repository.
func (s Source) Git() bool {
	return s.Ref != "" || strings.HasSuffix(strings.TrimRight(s.From, "/"), ".git") ||
		strings.HasPrefix(s.From, "ssh://") ||
		strings.HasPrefix(s.From, "git@")
}

// Text names the source for people.
func (s Source) Text() string {
	out := s.Slug
	if s.Kind == Core {
		out = "core"
	}
	if s.Version != "" {
		out += " " + s.Version
	}
	if s.From == "" {
		return strings.TrimSpace(out)
	}
	from := s.From
	if u, err := url.Parse(s.From); err == nil && u.User != nil {
		from = u.Redacted()
	}
	if s.Ref != "" {
		from += " at " + s.Ref
	}
	if out == "" {
		return from
	}
	return out + " from " + from
}

// ParseSource reads what a person names a component by: a catalogue name, with
// @VERSION if it is not to be the newest; the address of its page there; an
// archive's address or path; a repository's address, with #REF; or site:NAME/SLUG.
func ParseSource(kind ComponentKind, text string) (Source, error) {
	s := Source{Kind: kind}
	text = strings.TrimSpace(text)
	if strings.HasPrefix(text, "-") || strings.Contains(text, "::") || strings.ContainsFunc(text, unicode.IsControl) {
		return s, fmt.Errorf("%q names no component: a name of the catalogue, an address, a file, a git repository, "+
			"or site:NAME/SLUG", text)
	}
	if from, ok := strings.CutPrefix(text, "site:"); ok {
		name, slug, ok := strings.Cut(from, "/")
		if !ok || !GoodSlug(slug) {
			return s, fmt.Errorf("%q: name the site and what to take from it: site:NAME/SLUG", text)
		}
		s.From, s.Slug = "site:"+name, slug
		return s, nil
	}
	if slug, version, _ := strings.Cut(text, "@"); slug != "git" && GoodSlug(slug) && !strings.Contains(version, "/") &&
		!strings.HasSuffix(text, ".zip") {
		s.Slug, s.Version = slug, version
		return s, nil
	}
	s.From, s.Ref, _ = strings.Cut(text, "#")
	if s.Git() {
		return s, nil
	}
	u, err := url.Parse(s.From)
	if err != nil {
		return s, fmt.Errorf("%q is no address: %w", text, err)
	}
	switch u.Scheme {
	case "http", "https":
		// A page of the catalogue names kind and component: /plugins/NAME/
		parts := strings.Split(strings.Trim(u.Path, "/"), "/")
		if n := len(parts); path.Ext(u.Path) == "" && n >= 2 && (parts[n-2] == "plugins" || parts[n-2] == "themes") &&
			GoodSlug(parts[n-1]) {
			s.From, s.Slug = "", parts[n-1]
			is := map[string]ComponentKind{"plugins": Plugin, "themes": Theme}[parts[n-2]]
			if kind != "" && kind != is {
				return s, fmt.Errorf("%s is the page of a %s, not of a %s", text, is, kind)
			}
			s.Kind = is
		}
	case "":
	default:
		return s, fmt.Errorf("%q: from %s: nothing is fetched; name an http or https address, a file, or a "+
			"git repository", text, u.Scheme)
	}
	return s, nil
}

// GoodSlug tells whether a text can be the folder's name of a component.
func GoodSlug(s string) bool {
	return s != "" && len(s) <= 200 && s[0] != '.' && s[0] != '-' && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' ||
			r == '.')
	})
}

// CompareVersions orders versions as PHP's version_compare does
// (https://www.php.net/version_compare): number by number, and dev, alpha, beta
// and RC before the number alone.
func CompareVersions(a, b string) int {
	x, y := versionParts(a), versionParts(b)
	for i := range max(len(x), len(y)) {
		m, n := "#end", "#end"
		if i < len(x) {
			m = x[i]
		}
		if i < len(y) {
			n = y[i]
		}
		if c := comparePart(m, n); c != 0 {
			return c
		}
	}
	return 0
}

// versionParts cuts at every . - _ + and between letters and digits.
func versionParts(v string) []string {
	var out []string
	last := rune(0)
	for _, r := range strings.TrimPrefix(strings.ToLower(strings.TrimSpace(v)), "v") {
		switch {
		case strings.ContainsRune(".-_+ ", r):
			last = 0
			continue
		case last == 0 || unicode.IsDigit(r) != unicode.IsDigit(last):
			out = append(out, "")
		}
		out[len(out)-1] += string(r)
		last = r
	}
	return out
}

// forms are the beginnings of words in versions, in their order, with where the end
// and a plain number stand.
var forms = []struct {
	word string
	rank int
}{{"dev", 1}, {"alpha", 2}, {"a", 2}, {"beta", 3}, {"b", 3}, {"rc", 4}, {"#end", 5}, {"#", 6}, {"pl", 7}, {"p", 7}}

func comparePart(a, b string) int {
	m, errA := strconv.Atoi(a)
	n, errB := strconv.Atoi(b)
	if errA == nil && errB == nil {
		return cmp.Compare(m, n)
	}
	rank := func(s string, err error) int {
		if err == nil {
			s = "#"
		}
		for _, f := range forms {
			if strings.HasPrefix(s, f.word) {
				return f.rank
			}
		}
		return 0 // an unknown word is before all
	}
	return cmp.Compare(rank(a, errA), rank(b, errB))
}
