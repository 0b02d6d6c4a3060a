package gateway

import (
	"net/url"
	"path"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// lead is what a page says of itself, and leads to on its own site.
type lead struct {
	title string
	pages []string // that visitors are led to, each once and the page itself not
	files []string // that it is made of or leads to: styles, scripts, pictures
}

// leads reads a page of a site whose first page is at base + "/". Links that are not for robots to follow (HTML,
// link type nofollow) may do something, and are left out.
func leads(page, base string) (out lead) {
	home, err := url.Parse(base + "/")
	if err != nil {
		return out
	}
	t := html.NewTokenizer(strings.NewReader(page))
	for inTitle := false; ; {
		switch t.Next() {
		case html.ErrorToken:
			return out
		case html.TextToken:
			if inTitle {
				out.title += string(t.Text())
			}
		case html.EndTagToken:
			inTitle = false
		case html.StartTagToken, html.SelfClosingTagToken:
			name, more := t.TagName()
			tag, attrs := string(name), map[string]string{}
			for more {
				var k, v []byte
				k, v, more = t.TagAttr()
				attrs[string(k)] = string(v)
			}
			inTitle = tag == "title" && out.title == ""
			out.take(tag, attrs, home)
		}
	}
}

// take takes what a tag leads to.
func (l *lead) take(tag string, attrs map[string]string, home *url.URL) {
	to, page := attrs["src"], false
	rel := strings.Fields(strings.ToLower(attrs["rel"]))
	switch {
	case tag == "a" && !slices.Contains(rel, "nofollow"):
		to, page = attrs["href"], true
	case tag == "link" && slices.Contains(rel, "stylesheet"):
		to = attrs["href"]
	case tag != "img" && tag != "script":
		return
	}
	u, err := home.Parse(strings.TrimSpace(to))
	if err != nil || to == "" || u.Scheme != home.Scheme || u.Host != home.Host || !strings.HasPrefix(u.Path, home.Path) {
		return
	}
	u.Fragment, u.RawFragment = "", ""
	if u.String() == home.String() {
		return
	}
	list := &l.files
	if page && slices.Contains([]string{"", ".php", ".html", ".htm"}, strings.ToLower(path.Ext(u.Path))) {
		list = &l.pages
	}
	if !slices.Contains(*list, u.String()) {
		*list = append(*list, u.String())
	}
}
