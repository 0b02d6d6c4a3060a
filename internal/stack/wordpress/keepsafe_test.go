package wordpress

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// memory is a snapshot of rows in memory. A table is given by its columns, and a
// row by its values as text.
type memory struct {
	tables.Snapshot
	schema tables.Schema
	rows   map[string][]tables.Row
}

func (m *memory) Schema() tables.Schema { return m.schema }
func (m *memory) Read(_ context.Context, table string, _ tables.Range, give func(tables.Row) error) error {
	for _, r := range m.rows[table] {
		if err := give(tables.Row{Key: r.Key, Values: append([]tables.Value{}, r.Values...)}); err != nil {
			return err
		}
	}
	return nil
}

// add adds a table; columns that end with # are numbers, and the first is the key.
func (m *memory) add(name string, columns string, rows ...[]string) {
	t := tables.Table{Name: name, Rows: int64(len(rows))}
	for _, c := range strings.Fields(columns) {
		kind := "longtext"
		if strings.HasSuffix(c, "#") {
			kind = "bigint(20)"
		}
		t.Columns = append(t.Columns, tables.Column{Name: strings.TrimSuffix(c, "#"), Type: kind})
	}
	t.Key = []string{t.Columns[0].Name}
	m.schema.Tables = append(m.schema.Tables, t)
	for _, r := range rows {
		var row tables.Row
		for i, v := range r {
			val := tables.Value{Kind: tables.Text, Bytes: []byte(v)}
			if t.Columns[i].Type == "bigint(20)" {
				n := int64(0)
				_, _ = fmt.Sscan(v, &n)
				val = tables.Value{Kind: tables.Int, Int: n, Bytes: []byte(v)}
			}
			row.Values = append(row.Values, val)
		}
		row.Key = row.Values[:1]
		m.rows[name] = append(m.rows[name], row)
	}
}

const (
	postColumns = "ID# post_author# post_date post_date_gmt post_content post_title post_excerpt post_status " +
		"comment_status ping_status post_name post_modified post_modified_gmt post_parent# guid menu_order# " +
		"post_type comment_count#"
	commentColumns = "comment_ID# comment_post_ID# comment_author comment_author_email comment_author_url " +
		"comment_date comment_date_gmt comment_content comment_approved comment_type comment_parent# user_id#"
)

func written(id, author, title, status, parent, kind, content string) []string {
	return []string{
		id,
		author,
		"2026-11-0" + id[:1] + " 09:00:00",
		"2026-11-0" + id[:1] + " 08:00:00",
		content,
		title,
		"",
		status,
		"open",
		"open",
		strings.ToLower(title),
		"2026-11-01 09:00:00",
		"2026-11-01 08:00:00",
		parent,
		"https://quay.example/?p=" + id,
		"0",
		kind,
		"0",
	}
}

// quay is a small site.
func quay() *memory {
	m := &memory{schema: tables.Schema{Engine: "mysql"}, rows: map[string][]tables.Row{}}
	m.add(
		"sk_options",
		"option_id# option_name option_value autoload",
		[]string{"1", "siteurl", "https://quay.example", "yes"},
		[]string{"2", "home", "https://quay.example", "yes"},
		[]string{"3", "blogname", "The Quay", "yes"},
		[]string{"4", "active_plugins", `a:1:{i:0;s:17:"tide-table/tt.php";}`, "yes"},
		[]string{"5", "tide_table_port", "Norsund", "yes"},
		[]string{"6", "template", "plainsail", "yes"},
		[]string{"7", "stylesheet", "plainsail", "yes"},
		[]string{"8", "default_category", "1", "yes"},
		[]string{
			"9",
			"sk_user_roles",
			`a:2:{s:13:"administrator";a:1:{s:4:"name";s:5:"Admin";}s:7:"steward";a:0:{}}`,
			"yes",
		},
		[]string{"10", "admin_email", "runa@quay.example", "yes"},
		[]string{"11", "bell_api_key", "made-up-key", "yes"},
		[]string{"12", "_transient_tide_table_now", "7", "no"},
		[]string{"13", "sticky_posts", "a:0:{}", "yes"},
	)
	m.add("sk_posts", postColumns, written("1", "1", "Ferry", "publish", "0", "post",
		`<img class="wp-image-3"> see https://quay.example/b`),
		written("2", "2", "About", "publish", "0", "page", "us"),
		written("3", "1", "Picture", "inherit", "1", "attachment", ""),
		written("4", "1", "Old", "inherit", "1", "revision", "was"))
	m.add("sk_postmeta", "meta_id# post_id# meta_key meta_value", []string{"1", "1", "_thumbnail_id", "3"},
		[]string{"2", "2", "tide_table_shown", "1"}, []string{"3", "1", "_edit_lock", "x"})
	m.add(
		"sk_comments",
		commentColumns,
		[]string{
			"1",
			"1",
			"Ola",
			"ola@quay.example",
			"",
			"2026-11-02 10:00:00",
			"2026-11-02 09:00:00",
			"Nice",
			"1",
			"comment",
			"0",
			"0",
		},
		[]string{
			"2",
			"1",
			"Runa",
			"",
			"",
			"2026-11-02 11:00:00",
			"2026-11-02 10:00:00",
			"Thanks",
			"1",
			"comment",
			"1",
			"1",
		},
	)
	m.add("sk_commentmeta", "meta_id# comment_id# meta_key meta_value", []string{"1", "2", "rating", "5"})
	m.add("sk_terms", "term_id# name slug term_group#", []string{"1", "Other", "other", "0"},
		[]string{"2", "Boats", "boats", "0"})
	m.add("sk_term_taxonomy", "term_taxonomy_id# term_id# taxonomy description parent# count#",
		[]string{"1", "1", "category", "", "0", "0"}, []string{"2", "2", "category", "", "0", "1"})
	m.add("sk_term_relationships", "object_id# term_taxonomy_id# term_order#", []string{"1", "2", "0"})
	m.add(
		"sk_users",
		"ID# user_login user_pass user_nicename user_email user_url user_registered user_activation_key user_status# "+
			"display_name",
		[]string{
			"1",
			"runa",
			"$P$made-up",
			"runa",
			"runa@quay.example",
			"",
			"2020-01-01 00:00:00",
			"made-up",
			"0",
			"Runa",
		},
		[]string{"2", "ola", "$P$made-up", "ola", "ola@quay.example", "", "2021-01-01 00:00:00", "", "0", "Ola"},
	)
	m.add("sk_usermeta", "umeta_id# user_id# meta_key meta_value",
		[]string{"1", "1", "sk_capabilities", `a:1:{s:13:"administrator";b:1;}`},
		[]string{"2", "1", "session_tokens", "made-up"},
		[]string{"3", "2", "sk_capabilities", `a:1:{s:7:"steward";b:1;}`}, []string{"4", "1", "nickname", "runa"})
	m.add("sk_tide_table_log", "n#", []string{"1"})
	m.add("other_options", "option_id# option_name option_value autoload",
		[]string{"1", "siteurl", "https://other.example", "yes"})
	return m
}

// after gives what becomes of a snapshot by cleanups.
func after(t *testing.T, m *memory, of func(tables.Table) stack.Cleanup) *memory {
	t.Helper()
	out := &memory{schema: tables.Schema{Engine: m.schema.Engine}, rows: map[string][]tables.Row{}}
	for _, tab := range m.schema.Tables {
		c := of(tab)
		if c.Goes {
			continue
		}
		if !c.Empty {
			require.NoError(t, m.Read(context.Background(), tab.Name, tables.Range{}, func(r tables.Row) error {
				if c.Row != nil {
					to, stays := c.Row(r)
					if !stays {
						return nil
					}
					r = to
				}
				out.rows[tab.Name] = append(out.rows[tab.Name], r)
				return nil
			}))
		}
		out.rows[tab.Name] = append(out.rows[tab.Name], c.Add...)
		tab.Rows = int64(len(out.rows[tab.Name]))
		out.schema.Tables = append(out.schema.Tables, tab)
	}
	return out
}

// cell gives a value of the row in which a column has a text.
func (m *memory) cell(table, column, is, want string) string {
	t, _ := m.schema.Table(table)
	for _, r := range m.rows[table] {
		if x := (row{t, r}); x.text(column) == is {
			return x.text(want)
		}
	}
	return "none"
}

func TestACleanSiteAndNothingElse(t *testing.T) {
	ctx := context.Background()
	m := quay()
	w := stack.Wish{
		All:   true,
		Theme: "twentytwentyone",
		At:    time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
		Admin: stack.Admin{Name: "harbour", Mail: "h@quay.example", Hash: "$2y$made-up"},
	}
	of, err := Stack{}.Clean(ctx, m, "sk_", w)
	require.NoError(t, err)
	c := after(t, m, func(t tables.Table) stack.Cleanup {
		if t.Name == "other_options" {
			return stack.Cleanup{} // what owns it says so
		}
		return of(t)
	})
	for table, n := range map[string]int{"sk_posts": 0, "sk_comments": 0, "sk_postmeta": 0, "sk_term_relationships": 0,
		"sk_terms": 1, "sk_term_taxonomy": 1, "sk_users": 1, "sk_usermeta": 3} {
		assert.Len(t, c.rows[table], n, table)
	}
	_, there := c.schema.Table("sk_tide_table_log")
	assert.False(t, there, "a plugin's table goes")
	assert.Equal(t, "https://quay.example", c.cell("sk_options", "option_name", "siteurl", "option_value"))
	assert.Equal(t, "a:0:{}", c.cell("sk_options", "option_name", "active_plugins", "option_value"))
	assert.Equal(t, "twentytwentyone", c.cell("sk_options", "option_name", "stylesheet", "option_value"))
	assert.Equal(t, "none", c.cell("sk_options", "option_name", "tide_table_port", "option_value"))
	assert.Equal(t, "h@quay.example", c.cell("sk_options", "option_name", "admin_email", "option_value"))
	assert.NotContains(t, c.cell("sk_options", "option_name", "sk_user_roles", "option_value"), "steward")
	assert.Equal(t, "$2y$made-up", c.cell("sk_users", "user_login", "harbour", "user_pass"))
	assert.Equal(t, "", c.cell("sk_users", "user_login", "harbour", "user_activation_key"))
	assert.Equal(t, `a:1:{s:13:"administrator";b:1;}`, c.cell("sk_usermeta", "meta_key", "sk_capabilities",
		"meta_value"))

	// What is clean stays as it is.
	of, err = Stack{}.Clean(ctx, c, "sk_", w)
	require.NoError(t, err)
	again := after(t, c, of)
	delete(c.rows, "other_options")
	assert.Equal(t, c.rows, again.rows)

	// Somebody who is there keeps the account, with or without a new password.
	of, err = Stack{}.Clean(ctx, m, "sk_", stack.Wish{All: true, Admin: stack.Admin{Name: "ola"}})
	require.NoError(t, err)
	c = after(t, m, of)
	assert.Equal(t, "$P$made-up", c.cell("sk_users", "user_login", "ola", "user_pass"))
	assert.Len(t, c.rows["sk_users"], 1)
	_, err = Stack{}.Clean(ctx, m, "sk_", stack.Wish{All: true, Admin: stack.Admin{Name: "nobody"}})
	assert.ErrorContains(t, err, "needs a password")
	m.add("sk_blogs", "blog_id#")
	_, err = Stack{}.Clean(ctx, m, "sk_", w)
	assert.ErrorContains(t, err, "this is a network")
}

func TestSmallerResets(t *testing.T) {
	ctx := context.Background()
	m := quay()
	of, err := Stack{}.Clean(ctx, m, "sk_", stack.Wish{Plugin: "tide-table"})
	require.NoError(t, err)
	c := after(t, m, of)
	for _, gone := range []string{"tide_table_port", "_transient_tide_table_now"} {
		assert.Equal(t, "none", c.cell("sk_options", "option_name", gone, "option_value"))
	}
	assert.Equal(t, "none", c.cell("sk_postmeta", "meta_key", "tide_table_shown", "meta_id"))
	assert.Empty(t, c.rows["sk_tide_table_log"])
	assert.Equal(t, "made-up-key", c.cell("sk_options", "option_name", "bell_api_key", "option_value"))
	assert.Len(t, c.rows["sk_posts"], 4)

	of, err = Stack{}.Clean(ctx, m, "sk_", stack.Wish{Kinds: []site.Kind{site.Posts}})
	require.NoError(t, err)
	c = after(t, m, of)
	assert.Equal(t, "About", c.cell("sk_posts", "ID", "2", "post_title"))
	assert.Len(t, c.rows["sk_posts"], 2, "the post and its revision go, the picture stays")
	assert.Empty(t, c.rows["sk_comments"], "what stands under it goes too")
	assert.Empty(t, c.rows["sk_commentmeta"])
	assert.Empty(t, c.rows["sk_term_relationships"])
	assert.Len(t, c.rows["sk_terms"], 2)
	of, err = Stack{}.Clean(ctx, m, "sk_", stack.Wish{Kinds: []site.Kind{site.Terms}})
	require.NoError(t, err)
	c = after(t, m, of)
	assert.Equal(t, "Other", c.cell("sk_terms", "term_id", "1", "name"), "the usual one stays")
	assert.Len(t, c.rows["sk_terms"], 1)
	assert.Empty(t, c.rows["sk_term_relationships"])
	of, err = Stack{}.Clean(ctx, m, "sk_", stack.Wish{})
	require.NoError(t, err)
	assert.Equal(t, m.rows, after(t, m, of).rows)
}

func TestContentThatIsPutBackComesWithWhatItNeeds(t *testing.T) {
	ctx := context.Background()
	was, now := quay(), quay()
	now.rows["sk_posts"] = now.rows["sk_posts"][1:2] // the post, its picture and revision are gone
	now.rows["sk_users"] = now.rows["sk_users"][1:]  // and who wrote it
	now.rows["sk_comments"], now.rows["sk_term_relationships"] = nil, nil
	back, err := Stack{}.PutBack(ctx, was, now, "sk_", stack.Content{Items: []int64{1}})
	require.NoError(t, err)
	brings := func(table string) (n int) {
		tab, _ := was.schema.Table(table)
		_, bring := back(table)
		for _, r := range was.rows[table] {
			if bring != nil && bring(tab, r) {
				n++
			}
		}
		return n
	}
	assert.Equal(t, 3, brings("sk_posts"), "the post, its revision, its picture")
	assert.Equal(t, 2, brings("sk_comments"))
	assert.Equal(t, 1, brings("sk_term_relationships"))
	assert.Equal(t, 1, brings("sk_users"), "its author, who is there no more")
	assert.Zero(t, brings("sk_terms"), "its group is there")
	assert.Zero(t, brings("sk_options"))
	_, err = Stack{}.PutBack(ctx, was, now, "sk_", stack.Content{Items: []int64{77}})
	assert.ErrorContains(t, err, "no such content")
	_, err = Stack{}.PutBack(ctx, was, now, "sk_", stack.Content{Kinds: []site.Kind{site.Users}})
	assert.NoError(t, err)
}

func TestContentGoesRoundAsAFeed(t *testing.T) {
	ctx := context.Background()
	m := quay()
	var b bytes.Buffer
	n, err := Stack{}.Export(ctx, m, "sk_", nil, &b)
	require.NoError(t, err)
	assert.Equal(t, 3, n, "without the revision")
	assert.NotContains(t, b.String(), "_edit_lock")
	assert.NotContains(t, b.String(), "$P$made-up")

	// Into another site, which has a group of the same name and other numbers.
	to := quay()
	for table := range to.rows {
		if table != "sk_options" && table != "sk_users" && table != "sk_usermeta" && table != "sk_terms" &&
			table != "sk_term_taxonomy" {
			to.rows[table] = nil
		}
	}
	to.rows["sk_options"][0].Values[2].Bytes = []byte("https://pier.example")
	to.rows["sk_users"] = to.rows["sk_users"][:1]
	first := written("7", "1", "Mine", "publish", "0", "post", "here")
	first[14] = "https://pier.example/?p=7"
	to.add("sk_gone", "n#")
	other := quay()
	other.rows["sk_posts"] = nil
	other.add("x_posts", postColumns, first)
	to.rows["sk_posts"] = other.rows["x_posts"]
	of, out, err := Stack{}.Bring(ctx, to, "sk_", bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	assert.Equal(t, stack.Brought{Items: 3, Comments: 2, Unknown: []string{"ola"}}, out)
	c := after(t, to, of)
	assert.Equal(t, "8", c.cell("sk_posts", "post_title", "Ferry", "ID"), "numbers are new")
	assert.Contains(t, c.cell("sk_posts", "post_title", "Ferry", "post_content"), "https://pier.example/b",
		"addresses are this site's")
	assert.Equal(t, c.cell("sk_posts", "post_title", "Picture", "ID"),
		c.cell("sk_postmeta", "meta_key", "_thumbnail_id", "meta_value"), "references follow")
	assert.Equal(t, "8", c.cell("sk_posts", "post_title", "Picture", "post_parent"))
	assert.Equal(t, "1", c.cell("sk_posts", "post_title", "About", "post_author"))
	assert.Equal(t, c.cell("sk_comments", "comment_content", "Nice", "comment_ID"),
		c.cell("sk_comments", "comment_content", "Thanks", "comment_parent"))
	assert.Equal(t, "2", c.cell("sk_term_relationships", "object_id", "8", "term_taxonomy_id"),
		"the group is the one that is there")
	assert.Equal(t, "2", c.cell("sk_term_taxonomy", "term_taxonomy_id", "2", "count"))
	of, out, err = Stack{}.Bring(ctx, c, "sk_", bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	assert.Equal(t, 3, out.Skipped)
	assert.Equal(t, c.rows, after(t, c, of).rows, "twice adds nothing")
	_, _, err = Stack{}.Bring(ctx, c, "sk_", strings.NewReader("<rss></rss>"))
	assert.ErrorContains(t, err, "no wxr_version")
}

func TestSecretsAreTakenOut(t *testing.T) {
	r := Stack{}.Redact("sk_")
	config := "<?php\ndefine('DB_NAME', 'quay');\ndefine( 'DB_PASSWORD', 'made-up' );\ndefine('AUTH_KEY', " +
		"\"made-up-too\");\nconst MY_API_KEY = 'made-up';\n$table_prefix = 'sk_';\n"
	out := string(r.File("wp-config.php", []byte(config)))
	assert.NotContains(t, out, "made-up")
	assert.Contains(t, out, "'quay'")
	assert.Contains(t, out, "$table_prefix = 'sk_'")
	assert.True(t, r.Has("wp-config.php"))
	assert.False(t, r.Has("wp-content/themes/x/wp-config.php"))
	m := quay()
	for _, tab := range m.schema.Tables {
		for _, row := range m.rows[tab.Name] {
			for i, v := range r.Row(tab, row).Values {
				assert.NotContains(t, v.String(), "made-up", "%s %s", tab.Name, tab.Columns[i].Name)
			}
		}
	}
}
