package wordpress

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/site"
	"alibi/internal/stack"
)

// mainSite is the number of the sub-site whose tables and uploads bear no number.
const mainSite = 1

// ofNetworks are tables of a network, or of all its sites together.
var ofNetworks = []string{"blogmeta", "blog_versions", "blogs", "registration_log", "signups", "site", "sitemeta",
	"usermeta", "users"}

// subSiteOf tells to which of a network's sub-sites a table belongs; 0: to the network.
func subSiteOf(table, prefix string, has func(id int64) bool) int64 {
	rest, ours := strings.CutPrefix(table, prefix)
	if !ours || slices.Contains(ofNetworks, rest) {
		return 0
	}
	if number, _, ok := strings.Cut(rest, "_"); ok {
		if id, err := strconv.ParseInt(number, 10, 64); err == nil && has(id) {
			return id
		}
	}
	return mainSite
}

// weigh adds up what is each sub-site's own: tables, and uploads.
func weigh(f *site.Facts, files *stack.Measured) {
	at := map[int64]*site.SubSite{}
	for i := range f.Network.Sites {
		s := &f.Network.Sites[i]
		at[s.ID] = s
		if s.ID == mainSite {
			s.Files, s.Bytes = files.Below("wp-content/uploads", "wp-content/uploads/sites")
			continue
		}
		for _, dir := range []string{"wp-content/uploads/sites/%d", "wp-content/blogs.dir/%d"} { // since 3.5, and before
			n, bytes := files.Below(fmt.Sprintf(dir, s.ID))
			s.Files, s.Bytes = s.Files+n, s.Bytes+bytes
		}
	}
	for _, t := range f.Tables {
		s := at[subSiteOf(t.Name, f.Prefix, func(id int64) bool { return at[id] != nil })]
		if s != nil {
			s.Tables, s.Rows, s.TableBytes = s.Tables+1, s.Rows+t.Rows, s.TableBytes+t.Bytes
		}
	}
}

// stateOf says what hides a sub-site from visitors; "" where nothing does.
func stateOf(r row) string {
	for _, col := range []string{"deleted", "archived", "spam"} {
		if r.text(col) == "1" {
			return col
		}
	}
	return ""
}
