package site

import (
	"fmt"
	"slices"
	"strings"
)

// Kind is a kind of content that may be brought to a copy or left out of it.
type Kind string

// The kinds, in the order in which people are shown them. Settings are no
// choice: without them no copy would run.
const (
	Posts    Kind = "posts"
	Pages    Kind = "pages"
	Media    Kind = "media"
	Comments Kind = "comments"
	Terms    Kind = "terms"
	Menus    Kind = "menus"
	Users    Kind = "users"
	Products Kind = "products"
	Orders   Kind = "orders"
	Other    Kind = "other"
)

// Kinds are all kinds.
var Kinds = []Kind{Posts, Pages, Media, Comments, Terms, Menus, Users, Products, Orders, Other}

// Explain says what belongs to a kind; "" if there is no such kind.
func (k Kind) Explain() string {
	return map[Kind]string{
		Posts: "posts with their revisions", Pages: "pages with their revisions", Media: "entries of the media library",
		Comments: "comments, with what they stand under", Terms: "categories, tags and other groups",
		Menus: "menus and their entries",
		Users: "accounts; without this only administrators and authors", Products: "products and their variations",
		Orders: "orders, refunds and vouchers",
		Other:  "what plugins keep as content of their own",
	}[k]
}

// ParseKinds reads a list of kinds as people write it.
func ParseKinds(list []string) ([]Kind, error) {
	var out []Kind
	for _, s := range list {
		k := Kind(strings.ToLower(strings.TrimSpace(s)))
		if k.Explain() == "" {
			return nil, fmt.Errorf("%q is no kind of content: %s", s, KindList(Kinds))
		}
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out, nil
}

// KindList writes kinds for people.
func KindList(list []Kind) string {
	words := make([]string, len(list))
	for i, k := range list {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}

// Has tells how many of a kind a site has.
func (f *Facts) Has(k Kind) int {
	n := 0
	for _, c := range f.Kinds {
		if c.Kind == string(k) {
			n += c.N
		}
	}
	return n
}
