package wordpress

import (
	"fmt"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// rowOf makes a row of a table with the columns that it is given.
func rowOf(table string, cells ...any) (tables.Table, tables.Row) {
	t, r := tables.Table{Name: table}, tables.Row{}
	for i := 0; i < len(cells); i += 2 {
		t.Columns = append(t.Columns, tables.Column{Name: cells[i].(string)})
		v := tables.Value{Kind: tables.Text, Bytes: []byte(fmt.Sprint(cells[i+1]))}
		if n, ok := cells[i+1].(int); ok {
			v = tables.Value{Kind: tables.Int, Int: int64(n)}
		}
		r.Values = append(r.Values, v)
	}
	r.Key = r.Values[:1]
	return t, r
}

func TestRowsBelongToItems(t *testing.T) {
	for want, cells := range map[string][]any{
		"post:12":         {"sk_posts", "ID", 12, "post_type", "page"},
		"post:7":          {"sk_posts", "ID", 13, "post_type", "revision", "post_parent", 7},
		"post:3":          {"sk_postmeta", "meta_id", 90, "post_id", 3, "meta_key", "x"},
		"post:4":          {"sk_term_relationships", "object_id", 4, "term_taxonomy_id", 2},
		"term:5":          {"sk_term_taxonomy", "term_taxonomy_id", 9, "term_id", 5, "taxonomy", "category"},
		"term:6":          {"sk_termmeta", "meta_id", 1, "term_id", 6},
		"comment:8":       {"sk_commentmeta", "meta_id", 1, "comment_id", 8},
		"user:2":          {"sk_usermeta", "umeta_id", 1, "user_id", 2},
		"setting:tagline": {"sk_options", "option_id", 1, "option_name", "tagline"},
		"post:2/12":       {"sk_2_posts", "ID", 12, "post_type", "page"},
		"row:sk_tides/40": {"sk_tides", "id", 40, "level", "high"},
	} {
		tab, r := rowOf(cells[0].(string), cells[1:]...)
		assert.Equal(t, want, Stack{}.ItemOf("sk_", tab, r))
	}
}

func TestWhatRefersToWhatIsFollowed(t *testing.T) {
	for name, c := range map[string]struct {
		cells []any
		want  string // the tables and numbers that are visited
		after string // the last value, when each number is a thousand more
	}{
		"a page": {[]any{"sk_posts", "ID", 12, "post_parent", 7, "post_author", 2, "guid", "https://a.example/?page_id=12",
			"post_content", `<!-- wp:image {"id":34,"x":5} --><img class="wp-image-34"> [gallery ids="1, 2"] 34`},
			"sk_posts 12 sk_posts 7 sk_users 2 sk_posts 34 sk_posts 34 sk_posts 1 sk_posts 2 sk_posts 12 ",
			`<!-- wp:image {"id":1034,"x":5} --><img class="wp-image-1034"> [gallery ids="1001, 1002"] 34`},
		"addresses": {[]any{"sk_posts", "ID", 12, "post_content", `<a href="https://ferry.example/?p=34"> ` +
			`<a href="/de/?lang=de&amp;page_id=35"> https:\/\/ferry.example\/?p=36 https://other.example/?p=37 ?p=38`},
			"sk_posts 12 sk_posts 34 sk_posts 35 sk_posts 36 ", `<a href="https://ferry.example/?p=1034"> ` +
				`<a href="/de/?lang=de&amp;page_id=1035"> https:\/\/ferry.example\/?p=1036 https://other.example/?p=37 ?p=38`},
		"a picture of it": {[]any{"sk_2_postmeta", "post_id", 12, "meta_key", "_thumbnail_id", "meta_value", "34"},
			"sk_2_posts 12 sk_2_posts 34 ", "1034"},
		"another field": {[]any{"sk_postmeta", "post_id", 12, "meta_key", "depth", "meta_value", "34"}, "sk_posts 12 ", "34"},
		"a group": {[]any{"sk_term_taxonomy", "term_taxonomy_id", 9, "term_id", 5, "parent", 4},
			"sk_term_taxonomy 9 sk_terms 5 sk_terms 4 ", "1004"},
		"a comment": {[]any{"sk_comments", "comment_ID", 3, "comment_post_ID", 12, "user_id", 0, "comment_parent", 2},
			"sk_comments 3 sk_posts 12 sk_comments 2 ", "1002"},
		"the front page": {[]any{"sk_options", "option_id", 1, "option_name", "page_on_front", "option_value", "12"},
			"sk_posts 12 ", "1012"},
	} {
		tab, r := rowOf(c.cells[0].(string), c.cells[1:]...)
		seen := ""
		Stack{}.References(stack.Around{Prefix: "sk_", Hosts: []string{"ferry.example"}}, tab, r, func(table string,
			n int64) int64 {
			seen += table + " " + strconv.FormatInt(n, 10) + " "
			return n + 1000
		})
		assert.Equal(t, c.want, seen, name)
		assert.Equal(t, c.after, r.Values[len(r.Values)-1].String(), name)
	}
	tab, r := rowOf("sk_postmeta", "meta_id", 1, "meta_key", "berths", "meta_value", `a:1:{i:0;s:2:"34";}`)
	assert.Equal(t, []int64{34}, Stack{}.Looks(stack.Around{Prefix: "sk_"}, tab, r), "what looks like one is told")
}

// An entry of a menu and what it leads to may both get other numbers at once.
func TestAMenusEntryFollowsWithItsOwnNumber(t *testing.T) {
	kind, r := rowOf("sk_postmeta", "meta_id", 1, "post_id", 30, "meta_key", "_menu_item_type", "meta_value", "post_type")
	around := stack.Around{Prefix: "sk_", Rows: []stack.Written{{Table: kind, Row: r}}}
	more := func(_ string, n int64) int64 { return n + 1000 }
	for _, cells := range [][]any{{"sk_postmeta", "meta_id", 2, "post_id", 30, "meta_key", menuTarget, "meta_value", "28"},
		{"sk_posts", "ID", 30, "post_type", "nav_menu_item", "post_parent", "28"}} {
		tab, r := rowOf(cells[0].(string), cells[1:]...)
		Stack{}.References(around, tab, r, more)
		assert.Equal(t, "1028", r.Values[len(r.Values)-1].String(), cells[0])
	}
}
