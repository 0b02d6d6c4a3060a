package wordpress

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/phpval"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// partOf takes the name of a table of content apart: the prefix of its site, and what it is called without that.
func partOf(prefix, table string) (part, name string) {
	rest, ok := strings.CutPrefix(table, prefix)
	if !ok {
		return "", ""
	}
	bare := strings.TrimLeft(rest, "0123456789")
	if len(bare) < len(rest) {
		bare = strings.TrimPrefix(bare, "_")
	}
	return strings.TrimSuffix(table, bare), bare
}

// itemKinds are what an item is called by the table that its rows say they are of.
var itemKinds = map[thing]string{anItem: "post", aComment: "comment", aName: "term", anAccount: "user"}

// ItemOf names items by their numbers, settings by their names; those of a network's other sites with their site.
func (Stack) ItemOf(prefix string, t tables.Table, r tables.Row) string {
	part, name := partOf(prefix, t.Name)
	x := row{t, r}
	of, known := rowsOf[name]
	kind, id := itemKinds[of.of], ""
	switch {
	case name == "options":
		kind, id = "setting", x.text("option_name")
	case name == "posts" && x.text("post_type") == "revision":
		id = x.text("post_parent")
	case name == "term_taxonomy":
		kind, id = "term", x.text("term_id")
	case known:
		id = x.text(of.by)
	default:
		return stack.RowItem(t, r)
	}
	if site := strings.Trim(strings.TrimPrefix(part, prefix), "_"); site != "" {
		return kind + ":" + site + "/" + id
	}
	return kind + ":" + id
}

// typeWords are what people call types of content, one of them.
var typeWords = map[string]string{"nav_menu_item": "menu entry", "attachment": "media", "wp_block": "block",
	"shop_order": "order"}

// taxonomyWords are what people call groups, by their taxonomy.
var taxonomyWords = map[string]string{"post_tag": "tag", "nav_menu": "menu", "product_cat": "product category"}

// Describe says what a row tells of its item.
func (Stack) Describe(prefix string, t tables.Table, r tables.Row) stack.Described {
	_, name := partOf(prefix, t.Name)
	x := row{t, r}
	switch name {
	case "posts":
		if x.text("post_type") == "revision" {
			return stack.Described{}
		}
		d := stack.Described{Root: true, Kind: x.text("post_type"), Called: stack.Short(x.text("post_title")),
			State: x.text("post_status")}
		if word, ok := typeWords[d.Kind]; ok {
			d.Kind = word
		}
		if d.Called == "" {
			d.Called = x.text("post_name")
		}
		d.At, _ = time.Parse(time.DateTime, x.text("post_modified_gmt")) // a zero date is none
		return d
	case "terms":
		return stack.Described{Root: true, Called: stack.Short(x.text("name"))}
	case "term_taxonomy":
		d := stack.Described{Kind: x.text("taxonomy")}
		if word, ok := taxonomyWords[d.Kind]; ok {
			d.Kind = word
		}
		return d
	case "comments":
		d := stack.Described{Root: true, Kind: "comment", State: x.text("comment_approved"),
			Called: stack.Short(x.text("comment_author") + ": " + x.text("comment_content"))}
		d.At, _ = time.Parse(time.DateTime, x.text("comment_date_gmt"))
		return d
	case "users":
		return stack.Described{Root: true, Kind: "user", Called: x.text("user_login")}
	case "options":
		return stack.Described{Root: true, Kind: "setting", Called: x.text("option_name")}
	case "postmeta", "termmeta", "commentmeta", "usermeta", "term_relationships":
		return stack.Described{}
	}
	called, _ := Stack{}.About(prefix, t, r)
	return stack.RowOf(t, r, called)
}

// RootOf gives the row of an item that has a number.
func (Stack) RootOf(prefix, item string) (string, int64) {
	kind, id, _ := strings.Cut(item, ":")
	if site, rest, in := strings.Cut(id, "/"); in {
		prefix, id = prefix+site+"_", rest
	}
	n, err := strconv.ParseInt(id, 10, 64)
	table, known := map[string]string{"post": "posts", "term": "terms", "comment": "comments", "user": "users"}[kind]
	if err != nil || !known {
		return "", 0
	}
	return prefix + table, n
}

// columnRefs are the columns that hold numbers of other rows, by table, with the table that they are in.
var columnRefs = map[string][][2]string{
	"posts":              {{"ID", "posts"}, {"post_parent", "posts"}, {"post_author", "users"}},
	"postmeta":           {{"post_id", "posts"}},
	"term_relationships": {{"object_id", "posts"}, {"term_taxonomy_id", "term_taxonomy"}},
	"term_taxonomy": {{"term_taxonomy_id", "term_taxonomy"}, {"term_id", "terms"},
		{"parent", "terms"}},
	"terms":    {{"term_id", "terms"}},
	"termmeta": {{"term_id", "terms"}},
	"comments": {{"comment_ID", "comments"}, {"comment_post_ID", "posts"}, {"comment_parent", "comments"},
		{"user_id", "users"}},
	"commentmeta": {{"comment_id", "comments"}},
	"users":       {{"ID", "users"}},
	"usermeta":    {{"user_id", "users"}},
}

// ownNumber is how an address names content by its number.
var ownNumber = regexp.MustCompile(`[?&](?:p|page_id|attachment_id)=(\d+)`)

// References visits what rows of content refer to: by columns, in texts, by fields and by settings.
func (Stack) References(of stack.Around, t tables.Table, r tables.Row, visit func(string, int64) int64) {
	prefix, hosts := of.Prefix, of.Hosts
	part, name := partOf(prefix, t.Name)
	in := func(table string) string {
		if table == "users" {
			return prefix + table // a network has them once
		}
		return part + table
	}
	x := row{t, r}
	id, owner := x.text("ID"), x.text("post_id") // as the rows around it know them: they may get others here
	for _, c := range columnRefs[name] {
		table := c[1]
		if c[0] == "post_parent" && x.text("post_type") == "nav_menu_item" { // that of what the entry leads to
			if table = targetOf(of, part+"postmeta", id); table == "" {
				continue
			}
		}
		if n := x.number(c[0]); n > 0 {
			if to := visit(in(table), n); to != n {
				x.set(c[0], strconv.FormatInt(to, 10))
			}
		}
	}
	post := func(n int64) int64 { return visit(in("posts"), n) }
	switch name {
	case "posts":
		x.follow("post_content", inText, post)
		x.follow("guid", ownNumber, post)
		x.follow("post_content", byAddress(hosts), post)
		x.follow("post_excerpt", byAddress(hosts), post)
	case "comments":
		x.follow("comment_content", byAddress(hosts), post)
	case "postmeta":
		if !phpval.Looks([]byte(x.text("meta_value"))) {
			x.follow("meta_value", byAddress(hosts), post)
		}
		switch key := x.text("meta_key"); {
		case key == menuTarget:
			if to := targetOf(of, t.Name, owner); to != "" {
				x.follow("meta_value", listed, func(n int64) int64 { return visit(in(to), n) })
			}
		case metaRef.MatchString(key) || slices.Contains(referring, key):
			x.follow("meta_value", listed, post)
		}
	case "options":
		if option := x.text("option_name"); slices.Contains(settingRefs, option) || strings.HasSuffix(option, "_page_id") {
			x.follow("option_value", listed, post)
		}
	}
}

// menuTarget is the field of a menu's entry with the number of what it leads to.
const menuTarget = "_menu_item_object_id"

// targetOf gives the table in which what a menu's entry leads to is, which another field of it tells; "": that is not
// known.
func targetOf(of stack.Around, meta, entry string) string {
	for _, w := range of.Rows {
		other := row{w.Table, w.Row}
		if w.Table.Name == meta && other.text("meta_key") == "_menu_item_type" && other.text("post_id") == entry {
			if other.text("meta_value") == "taxonomy" {
				return "terms"
			}
			return "posts"
		}
	}
	return ""
}

// byAddress finds addresses of content of a site by its number, those without a host too.
func byAddress(hosts []string) *regexp.Regexp {
	if len(hosts) == 0 {
		return noAddress
	}
	key := strings.Join(hosts, " ")
	if known, ok := addresses.Load(key); ok {
		return known.(*regexp.Regexp)
	}
	var quoted []string
	for _, h := range hosts {
		quoted = append(quoted, regexp.QuoteMeta(h))
	}
	re := regexp.MustCompile(`(?:\\?/\\?/(?:` + strings.Join(quoted, "|") + `)|["'(])(?:\\?/[\w.-]*)*\?` +
		`(?:[\w-]+=[\w-]*&(?:amp;|#038;)?)*(?:p|page_id|attachment_id)=(\d+)`)
	addresses.Store(key, re)
	return re
}

var (
	addresses sync.Map // of *regexp.Regexp
	noAddress = regexp.MustCompile(`$^`)
)

// listed is a value that is a number or a list of numbers.
var listed = regexp.MustCompile(`^\s*(\d+(?:\s*,\s*\d+)*)\s*$`)

// follow visits the numbers in a text that an expression finds in its groups.
func (x row) follow(column string, by *regexp.Regexp, visit func(int64) int64) {
	text := x.text(column)
	var out strings.Builder
	last := 0
	for _, m := range by.FindAllStringSubmatchIndex(text, -1) {
		for g := 2; g+1 < len(m); g += 2 {
			if m[g] < 0 {
				continue
			}
			out.WriteString(text[last:m[g]])
			out.WriteString(numbers.ReplaceAllStringFunc(text[m[g]:m[g+1]], func(s string) string {
				n, err := strconv.ParseInt(s, 10, 64)
				if err != nil || n <= 0 {
					return s
				}
				if to := visit(n); to != n {
					return strconv.FormatInt(to, 10)
				}
				return s
			}))
			last = m[g+1]
		}
	}
	if out.WriteString(text[last:]); out.String() != text {
		x.set(column, out.String())
	}
}

// set gives a column another value of the kind that it has.
func (x row) set(column, value string) {
	v := &x.r.Values[x.t.Column(column)]
	if v.Kind == tables.Int {
		n, err := strconv.ParseInt(value, 10, 64)
		if err == nil {
			*v = v.WithInt(n)
		}
		return
	}
	v.Bytes = []byte(value)
}

// Numbered tells of the tables of content. What other components have of its numbers, Looks tells.
func (Stack) Numbered(prefix, table string) bool {
	_, name := partOf(prefix, table)
	return columnRefs[name] != nil || name == "options"
}

// Field tells of fields of content, groups, comments and accounts, and of settings.
func (Stack) Field(prefix string, t tables.Table, r tables.Row) (of, key, column string) {
	_, name := partOf(prefix, t.Name)
	x := row{t, r}
	switch name {
	case "postmeta", "termmeta", "commentmeta", "usermeta":
		return strings.TrimSuffix(name, "meta") + "s", x.text("meta_key"), "meta_value"
	case "options":
		return stack.OfSettings, x.text("option_name"), "option_value"
	}
	return "", "", ""
}

// Owner tells of comments.
func (Stack) Owner(prefix string, t tables.Table, r tables.Row) (string, int64) {
	part, name := partOf(prefix, t.Name)
	if name != "comments" {
		return "", 0
	}
	return part + "posts", row{t, r}.number("comment_post_ID")
}

// Natural tells of settings and accounts by their names, of fields by what they are of, and of groups by their short
// names.
func (Stack) Natural(prefix string, t tables.Table, r tables.Row) string {
	_, name := partOf(prefix, t.Name)
	x := row{t, r}
	switch name {
	case "options":
		return x.text("option_name")
	case "users":
		return x.text("user_login")
	case "terms":
		return x.text("slug")
	case "term_taxonomy":
		return x.text("taxonomy") + " " + x.text("term_id")
	case "postmeta", "termmeta", "commentmeta", "usermeta":
		return x.text("meta_key") + " of " + x.text(rowsOf[name].by)
	}
	return ""
}

// Files names a picture, or another thing of the media library, and the sizes in which it was made.
func (Stack) Files(prefix string, t tables.Table, r tables.Row) (out []string) {
	part, name := partOf(prefix, t.Name)
	x := row{t, r}
	if name != "postmeta" {
		return nil
	}
	dir := "wp-content/uploads"
	if site := strings.Trim(strings.TrimPrefix(part, prefix), "_"); site != "" {
		dir += "/sites/" + site
	}
	add := func(name string) {
		if name = path.Clean(name); name != "." && !strings.HasPrefix(name, "/") && !strings.HasPrefix(name, "..") {
			out = append(out, path.Join(dir, name))
		}
	}
	switch x.text("meta_key") {
	case "_wp_attached_file":
		add(x.text("meta_value"))
	case "_wp_attachment_metadata":
		v, err := phpval.Parse([]byte(x.text("meta_value")))
		if err != nil {
			return nil // to the CMS it is nothing
		}
		file, _ := v.Get("file")
		beside := path.Dir(file.Text())
		if original, ok := v.Get("original_image"); ok {
			add(path.Join(beside, original.Text()))
		}
		sizes, _ := v.Get("sizes")
		for _, size := range sizes.Items {
			if f, ok := size.Val.Get("file"); ok {
				add(path.Join(beside, f.Text()))
			}
		}
	}
	return out
}

// Looks gives the numbers in fields and settings that nothing is known of: a value that is one, or several, and in
// values of PHP's and of JSON.
func (Stack) Looks(of stack.Around, t tables.Table, r tables.Row) []int64 {
	_, name := partOf(of.Prefix, t.Name)
	x := row{t, r}
	switch {
	case name == "postmeta" && x.text("meta_key") == menuTarget && targetOf(of, t.Name, x.text("post_id")) == "":
		return maybeNumbers(x.text("meta_value"))
	case name == "postmeta" && !metaRef.MatchString(x.text("meta_key")) && !slices.Contains(referring, x.text("meta_key")):
		return maybeNumbers(x.text("meta_value"))
	case name == "options" && !slices.Contains(settingRefs, x.text("option_name")):
		return maybeNumbers(x.text("option_value"))
	case columnRefs[name] == nil && name != "options":
		var out []int64
		for _, v := range r.Values {
			out = append(out, maybeNumbers(v.String())...)
		}
		return out
	}
	return nil
}

// packed are numbers in values of PHP's and of JSON.
var packed = regexp.MustCompile(`i:(\d+);|s:\d+:"(\d+)";|[\[:,]"?(\d+)"?[\],}]`)

func maybeNumbers(s string) (out []int64) {
	if listed.MatchString(s) {
		return numbersIn(s)
	}
	for _, m := range packed.FindAllStringSubmatch(s, 200) {
		out = append(out, numbersIn(strings.Join(m[1:], " "))...)
	}
	return out
}

// Fixed tells of revisions.
func (Stack) Fixed(prefix string, t tables.Table, r tables.Row) bool {
	_, name := partOf(prefix, t.Name)
	return name == "posts" && row{t, r}.text("post_type") == "revision"
}
