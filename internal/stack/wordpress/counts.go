package wordpress

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Cached tells of counts, which the CMS works out anew.
func (Stack) Cached(prefix string, t tables.Table, column string) bool {
	_, name := partOf(prefix, t.Name)
	return name == "term_taxonomy" && column == "count" || name == "posts" && column == "comment_count"
}

// Recount counts the comments of items and the published items of groups, as the CMS does when it saves one, and has
// it forget which groups are below others.
func (Stack) Recount(prefix string, schema tables.Schema, rows []stack.Written) (out []string) {
	commented, posts, groups := map[string]set{}, map[string]set{}, map[string]set{} // by the prefix of their site
	trees := map[string][]string{}
	for _, w := range rows {
		part, name := partOf(prefix, w.Table.Name)
		x := row{w.Table, w.Row}
		switch name {
		case "comments":
			commented[part] = commented[part].with(x.number("comment_post_ID"))
		case "posts":
			posts[part] = posts[part].with(x.number("ID"))
			commented[part] = commented[part].with(x.number("ID"))
		case "term_taxonomy":
			groups[part] = groups[part].with(x.number("term_taxonomy_id"))
			name := "'" + strings.ReplaceAll(x.text("taxonomy"), "'", "''") + childrenOf + "'"
			if !slices.Contains(trees[part], name) {
				trees[part] = append(trees[part], name)
			}
		case "term_relationships":
			groups[part] = groups[part].with(x.number("term_taxonomy_id"))
		}
	}
	has := func(names ...string) bool {
		return !slices.ContainsFunc(names, func(n string) bool { _, ok := schema.Table(n); return !ok })
	}
	for _, part := range slices.Sorted(maps.Keys(commented)) {
		if !has(part+"posts", part+"comments") {
			continue
		}
		out = append(out, fmt.Sprintf("UPDATE %[1]sposts SET comment_count = (SELECT COUNT(*) FROM %[1]scomments WHERE "+
			"comment_post_ID = %[1]sposts.ID AND comment_approved = '1') WHERE ID IN (%[2]s)", part, commented[part]))
	}
	for _, part := range slices.Sorted(maps.Keys(trees)) {
		out = append(out, fmt.Sprintf("DELETE FROM %soptions WHERE option_name IN (%s)", part,
			strings.Join(trees[part], ", ")))
	}
	of := func(part, which string) {
		if has(part+"term_taxonomy", part+"term_relationships", part+"posts") {
			out = append(out, fmt.Sprintf("UPDATE %[1]sterm_taxonomy SET count = (SELECT COUNT(*) FROM "+
				"%[1]sterm_relationships r JOIN %[1]sposts p ON p.ID = r.object_id WHERE r.term_taxonomy_id = "+
				"%[1]sterm_taxonomy.term_taxonomy_id AND p.post_status = 'publish') WHERE taxonomy <> 'link_category' AND "+
				"term_taxonomy_id IN (%[2]s)", part, which))
		}
	}
	for _, part := range slices.Sorted(maps.Keys(groups)) {
		of(part, groups[part].String())
	}
	for _, part := range slices.Sorted(maps.Keys(posts)) {
		of(part, fmt.Sprintf("SELECT term_taxonomy_id FROM %sterm_relationships WHERE object_id IN (%s)", part, posts[part]))
	}
	return out
}

// set is numbers, each once.
type set map[int64]bool

func (s set) with(n int64) set {
	if s == nil {
		s = set{}
	}
	s[n] = true
	return s
}

func (s set) String() string {
	var out []string
	for _, n := range slices.Sorted(maps.Keys(s)) {
		out = append(out, strconv.FormatInt(n, 10))
	}
	return strings.Join(out, ", ")
}
