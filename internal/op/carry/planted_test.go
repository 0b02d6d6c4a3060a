package carry_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// planted is something that both sides change. In statements # stands for its number; want is what get gives on both
// sides afterwards, "!" where people have to decide.
type planted struct{ what, item, base, live, copied, get, want string }

const (
	aPost  = "post:#"
	ofPost = "SELECT CONCAT_WS('|', post_title, post_status, REPLACE(post_content, '\n', ' ')) FROM sk_posts WHERE " +
		"ID = #"
	aMeta  = "INSERT INTO sk_postmeta (meta_id, post_id, meta_key, meta_value) VALUES "
	ofMeta = "SELECT GROUP_CONCAT(CONCAT(meta_key, '=', meta_value) ORDER BY meta_key) FROM sk_postmeta WHERE " +
		"post_id = #"
	aSetting = "setting:o#"
	aValue   = "INSERT INTO sk_options (option_name, option_value) VALUES ('o#', '%s')"
	toValue  = "UPDATE sk_options SET option_value = '%s' WHERE option_name = 'o#'"
	ofValue  = "SELECT option_value FROM sk_options WHERE option_name = 'o#'"
	aTerm    = "INSERT INTO sk_terms (term_id, name, slug) VALUES (#, 'Fog', 'fog#');INSERT INTO sk_term_taxonomy " +
		"(term_taxonomy_id, term_id, taxonomy, description) VALUES (#, #, 'category', '')"
	ofTerm = "SELECT CONCAT_WS('|', name, slug, description) FROM sk_terms JOIN sk_term_taxonomy USING (term_id) " +
		"WHERE term_id = #"
	aNote = "INSERT INTO sk_comments (comment_ID, comment_post_ID, comment_author, comment_content, " +
		"comment_approved) VALUES (#, 1, 'A', 'x', '1')"
	ofNote  = "SELECT CONCAT_WS('|', comment_content, comment_approved) FROM sk_comments WHERE comment_ID = #"
	aPerson = "INSERT INTO sk_users (ID, user_login, display_name, user_email) VALUES (#, 'u#', 'Ada', " +
		"'a@inbox.example')"
	ofPerson  = "SELECT CONCAT_WS('|', display_name, user_email) FROM sk_users WHERE ID = #"
	inGroup   = "INSERT INTO sk_term_relationships (object_id, term_taxonomy_id) VALUES (#, %s)"
	ofGroups  = "SELECT GROUP_CONCAT(term_taxonomy_id ORDER BY 1) FROM sk_term_relationships WHERE object_id = #"
	serialize = `a:2:{s:1:"a";i:1;s:1:"b";i:1;}`
)

func set(what string) string { return "UPDATE sk_posts SET " + what + " WHERE ID = #" }

func value(text string) string { return fmt.Sprintf(toValue, text) }

func swap(from, to string) string {
	return set("post_content = REPLACE(post_content, '" + from + "', '" + to + "')")
}

func plantedAll() []planted {
	meta := aMeta + "(#, #, 'a', '1'), (#000, #, 'b', '1')"
	to := func(key, v string) string {
		return "UPDATE sk_postmeta SET meta_value = '" + v + "' WHERE post_id = # AND meta_key = '" + key + "'"
	}
	gone := func(table, key string) string { return "DELETE FROM sk_" + table + " WHERE " + key + " = #" }
	inPosts := []planted{
		{"title, and a line", "", "", set("post_title = 'L'"), swap("one", "1"), "", "L|publish|1 two three four five"},
		{"the same title", "", "", set("post_title = 'L'"), set("post_title = 'L'"), "", "L|publish|one two three four five"},
		{"two titles", "", "", set("post_title = 'L'"), set("post_title = 'C'"), "", "!"},
		{"two lines", "", "", swap("one", "1"), swap("five", "5"), "", "P|publish|1 two three four 5"},
		{"one line", "", "", swap("three", "3"), swap("three", "drei"), "", "!"},
		{"one line alike, another not", "", "", swap("one", "1"), swap("one", "1") + ";" + swap("five", "5"), "",
			"P|publish|1 two three four 5"},
		{"a line goes", "", "", swap("two\n", ""), swap("five", "5"), "", "P|publish|one three four 5"},
		{"a line that changed goes", "", "", swap("two\n", ""), swap("two", "2"), "", "!"},
		{"both add at the end", "", "", swap("five", "five\nsix"), swap("five", "five\nsechs"), "", "!"},
		{"each adds at another end", "", "", swap("five", "five\nsix"), swap("one", "zero\none"), "",
			"P|publish|zero one two three four five six"},
		{"a draft, and a title", "", "", set("post_status = 'draft'"), set("post_title = 'C'"), "",
			"C|draft|one two three four five"},
		{"two states", "", "", set("post_status = 'draft'"), set("post_status = 'private'"), "", "!"},
		{"all goes, and a line", "", "", set("post_content = ''"), swap("one", "1"), "", "!"},
		{"two times", "", "", set("post_title = 'L', post_modified = '2031-01-01'"),
			set("post_status = 'draft', post_modified = '2031-01-02'"), "", "L|draft|one two three four five"},
		{"gone, and a title", "", "", gone("posts", "ID"), set("post_title = 'C'"), "", "!"},
		{"a title, and gone", "", "", set("post_title = 'L'"), gone("posts", "ID"), "", "!"},
		{"gone on both", "", "", gone("posts", "ID"), gone("posts", "ID"), "", ""},
		{"gone, and a comment", "", "", gone("posts", "ID"), "INSERT INTO sk_comments (comment_ID, comment_post_ID, " +
			"comment_author, comment_content) VALUES (#, #, 'A', 'x')", "", "!"},
		{"gone, and a field", "", "", gone("posts", "ID"), aMeta + "(#, #, 'x', '1')", "", "!"},
	}
	inFields := []planted{
		{"two fields", "", meta, to("a", "2"), to("b", "3"), "", "a=2,b=3"},
		{"one field", "", meta, to("a", "2"), to("a", "3"), "", "!"},
		{"one field alike", "", meta, to("a", "2"), to("a", "2"), "", "a=2,b=1"},
		{"a field goes, another changes", "", meta, gone("postmeta", "meta_id"), to("b", "3"), "", "b=3"},
		{"a field goes, and changes", "", meta, gone("postmeta", "meta_id"), to("a", "3"), "", "!"},
		{"each makes a field", "", meta, aMeta + "(#001, #, 'l', '1')", aMeta + "(#002, #, 'k', '1')", "", "a=1,b=1,k=1,l=1"},
		{"each makes one field", "", meta, aMeta + "(#001, #, 'n', '1')", aMeta + "(#002, #, 'n', '2')", "", "!"},
		{"each makes one field alike", "", meta, aMeta + "(#001, #, 'n', '1')", aMeta + "(#002, #, 'n', '1')", "",
			"a=1,b=1,n=1"},
		{"two keys of one", "", aMeta + "(#, #, 'a', '" + serialize + "')", to("a", strings.Replace(serialize, "i:1", "i:2",
			1)),
			to("a", strings.Replace(serialize, `b";i:1`, `b";i:3`, 1)), "", `a=a:2:{s:1:"a";i:2;s:1:"b";i:3;}`},
		{"one key of one", "", aMeta + "(#, #, 'a', '" + serialize + "')", to("a", strings.Replace(serialize, "i:1", "i:2",
			1)),
			to("a", strings.Replace(serialize, "i:1", "i:3", 1)), "", "!"},
		{"two keys of JSON", "", aMeta + `(#, #, 'a', '{"x":1,"y":1}')`, to("a", `{"x":2,"y":1}`), to("a", `{"x":1,"y":3}`),
			"",
			`a={"x":2,"y":3}`},
	}
	others := []planted{
		{"two values", aSetting, fmt.Sprintf(aValue, "a"), value("b"), value("c"), ofValue, "!"},
		{"one value", aSetting, fmt.Sprintf(aValue, "a"), value("b"), value("b"), ofValue, "b"},
		{"two keys of a setting", aSetting, fmt.Sprintf(aValue, serialize), value(strings.Replace(serialize, "i:1", "i:2",
			1)),
			value(strings.Replace(serialize, `b";i:1`, `b";i:3`, 1)), ofValue, `a:2:{s:1:"a";i:2;s:1:"b";i:3;}`},
		{"each adds to a list", aSetting, fmt.Sprintf(aValue, `a:1:{i:0;s:1:"x";}`), value(`a:2:{i:0;s:1:"x";i:1;s:1:"l";}`),
			value(`a:2:{i:0;s:1:"x";i:1;s:1:"c";}`), ofValue, `a:3:{i:0;s:1:"x";i:1;s:1:"l";i:2;s:1:"c";}`},
		{"a setting goes, and changes", aSetting, fmt.Sprintf(aValue, "a"), "DELETE FROM sk_options WHERE option_name = 'o#'",
			value("c"), ofValue, "!"},
		{"each makes a setting", aSetting, "", fmt.Sprintf(aValue, "b"), fmt.Sprintf(aValue, "c"), ofValue, "!"},
		{"each makes a setting alike", aSetting, "", fmt.Sprintf(aValue, "b"), fmt.Sprintf(aValue, "b"), ofValue, "b"},
		{"a group's two names", "term:#", aTerm, "UPDATE sk_terms SET name = 'L' WHERE term_id = #",
			"UPDATE sk_terms SET name = 'C' WHERE term_id = #", ofTerm, "!"},
		{"a group's name, and what it is", "term:#", aTerm, "UPDATE sk_terms SET name = 'L' WHERE term_id = #",
			"UPDATE sk_term_taxonomy SET description = 'd' WHERE term_id = #", ofTerm, "L|fog#|d"},
		{"a group goes, and is named", "term:#", aTerm, gone("terms", "term_id") + ";" + gone("term_taxonomy", "term_id"),
			"UPDATE sk_terms SET name = 'C' WHERE term_id = #", ofTerm, "!"},
		{"a comment's text, and its state", "comment:#", aNote, "UPDATE sk_comments SET comment_content = 'L' WHERE " +
			"comment_ID = #",
			"UPDATE sk_comments SET comment_approved = '0' WHERE comment_ID = #", ofNote, "L|0"},
		{"a comment's two texts", "comment:#", aNote, "UPDATE sk_comments SET comment_content = 'L' WHERE comment_ID = #",
			"UPDATE sk_comments SET comment_content = 'C' WHERE comment_ID = #", ofNote, "!"},
		{"a comment goes, and changes", "comment:#", aNote, gone("comments", "comment_ID"),
			"UPDATE sk_comments SET comment_content = 'C' WHERE comment_ID = #", ofNote, "!"},
		{"an account's name, and mail", "user:#", aPerson, "UPDATE sk_users SET display_name = 'L' WHERE ID = #",
			"UPDATE sk_users SET user_email = 'c@inbox.example' WHERE ID = #", ofPerson, "L|c@inbox.example"},
		{"an account's two names", "user:#", aPerson, "UPDATE sk_users SET display_name = 'L' WHERE ID = #",
			"UPDATE sk_users SET display_name = 'C' WHERE ID = #", ofPerson, "!"},
		{"each puts it in a group", aPost, fmt.Sprintf(inGroup, "1"), fmt.Sprintf(inGroup, "2"), fmt.Sprintf(inGroup, "3"),
			ofGroups, "1,2,3"},
		{"both take it from one group", aPost, fmt.Sprintf(inGroup, "1"), gone("term_relationships", "object_id"),
			gone("term_relationships", "object_id"), ofGroups, ""},
	}
	var out []planted
	for _, c := range inPosts {
		c.item, c.get = aPost, ofPost
		out = append(out, c)
	}
	for _, c := range inFields {
		c.item, c.get = aPost, ofMeta
		out = append(out, c)
	}
	return append(out, others...)
}

// Each of these is merged, or shown for people to decide, as it should be; what is to be decided stays as it is on both
// sides, and all else is equal on both.
func TestPlantedConflicts(t *testing.T) {
	ctx := context.Background()
	all := plantedAll()
	require.GreaterOrEqual(t, len(all), 40)
	number := func(i int, text string) string { return strings.ReplaceAll(text, "#", fmt.Sprint(500+i)) }
	statements := func(i int, text string) (out []string) {
		for q := range strings.SplitSeq(number(i, text), ";") {
			if q = strings.TrimSpace(q); q != "" && !strings.Contains(text, "a:") {
				out = append(out, q)
			}
		}
		if strings.Contains(text, "a:") {
			return []string{number(i, text)}
		}
		return out
	}
	var base []string
	for i, c := range all {
		if c.item == aPost {
			base = append(base, fmt.Sprintf(insertPost, 500+i, "one\ntwo\nthree\nfour\nfive", "P", fmt.Sprintf("p%d", i), "x"))
		}
		base = append(base, statements(i, c.base)...)
	}
	w, live, s := pair(t, base...)
	for i, c := range all {
		on(t, live, statements(i, c.live)...)
		on(t, s, statements(i, c.copied)...)
	}
	of := map[string]*drift.Item{}
	for _, it := range drifted(t, w, s) {
		of[it.Name] = it
	}
	undecided := 0
	before := map[int][2]string{}
	for i, c := range all {
		it := of[number(i, c.item)]
		if c.want == "!" {
			undecided++
			before[i] = [2]string{got(live, number(i, c.get)), got(s, number(i, c.get))}
			if assert.NotNil(t, it, c.what) {
				assert.True(t, it.Clashes() && !it.Merges, "%s is to be decided: %s", c.what, line(it))
			}
		} else if it != nil {
			assert.False(t, it.Clashes() && !it.Merges, "%s is no conflict: %s", c.what, line(it))
		}
	}
	for _, to := range []carry.Side{carry.Live, carry.Copy} {
		p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: to, All: true})
		require.NoError(t, err)
		left := 0
		for _, f := range p.Findings {
			if strings.Contains(f.Text, "both sides changed it") {
				left++
			}
		}
		assert.Equal(t, undecided, left, "%v", p.Findings)
		r := w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
	}
	for i, c := range all {
		a, b := got(live, number(i, c.get)), got(s, number(i, c.get))
		if c.want == "!" {
			assert.Equal(t, before[i], [2]string{a, b}, "%s waits for people", c.what)
			continue
		}
		assert.Equal(t, number(i, c.want), a, "%s, on the live site", c.what)
		assert.Equal(t, number(i, c.want), b, "%s, on the copy", c.what)
	}
	assert.Len(t, lines(drifted(t, w, s)), undecided+1, "nothing else is left but the comment on what is gone")
}

// got asks a site's database for one text; "" if there is none.
func got(s site.Site, query string) string {
	text, err := mariadbtest.Text(s.Database.Name, query)
	if err != nil {
		return ""
	}
	return text
}
