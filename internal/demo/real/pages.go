package real

import (
	"fmt"
	"regexp"
	"strings"
)

// What a copy's pages have, and its origin's do not: the banner, and the wish
// not to be indexed.
var (
	ourBanner = regexp.MustCompile(
		`(?s)<style>\.alibi-bar.*?</style>\s*<(\w+) class="alibi-bar".*?</(div|aside|header|p)>`,
	)
	robots = regexp.MustCompile(`<meta name='robots'[^>]*>\s*`)
	nonce  = regexp.MustCompile(`(nonce=|"nonce":"|_wpnonce=)[0-9a-f]{10}`)
)

// SamePage compares a page of a copy with its origin's, apart from addresses
// and from what marks it as a copy. It gives the first difference, "" for none.
func SamePage(origin, copied, from, to string) string {
	copied = ourBanner.ReplaceAllString(copied, "")
	copied = strings.ReplaceAll(strings.ReplaceAll(copied, "[copy] ", ""), "&#091;copy&#093; ", "")
	for _, form := range []func(string) string{func(s string) string { return s },
		func(s string) string { return strings.ReplaceAll(s, "/", `\/`) },
		func(s string) string { return strings.NewReplacer(":", "%3A", "/", "%2F").Replace(s) }} {
		copied = strings.ReplaceAll(copied, form(to), form(from))
	}
	_, fromHost, _ := strings.Cut(from, "://")
	_, toHost, _ := strings.Cut(to, "://")
	toName, _, _ := strings.Cut(toHost, ":")
	// the CMS leaves the port out where a feed names itself
	copied = strings.ReplaceAll(strings.ReplaceAll(copied, toHost, fromHost), "http://"+toName, from)
	a, b := tidy(origin), tidy(copied)
	for i := range max(len(a), len(b)) {
		var x, y string
		if i < len(a) {
			x = a[i]
		}
		if i < len(b) {
			y = b[i]
		}
		if x != y {
			return fmt.Sprintf("line %d: %.200q on the origin, %.200q on the copy", i+1, x, y)
		}
	}
	return ""
}

func tidy(page string) (out []string) {
	page = nonce.ReplaceAllString(robots.ReplaceAllString(page, ""), "${1}x")
	for line := range strings.Lines(page) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}
