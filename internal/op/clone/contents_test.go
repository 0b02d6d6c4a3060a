package clone_test

import (
	"context"
	"database/sql"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// count gives the number that a query gives.
func count(t *testing.T, s site.Site, query string) (n int) {
	t.Helper()
	driver, source := "sqlite", "file:"+s.Database.Path+"?mode=ro"
	if s.Database.Engine == "mysql" {
		driver, source = "mysql", "root@unix("+mariadbtest.Socket()+")/"+s.Database.Name
	}
	db, err := sql.Open(driver, source)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query).Scan(&n), query)
	return n
}

// dangling are queries for rows that name something that is not there.
var dangling = map[string]string{
	"fields of content": "SELECT COUNT(*) FROM sk_postmeta m LEFT JOIN sk_posts p ON p.ID = m.post_id WHERE " +
		"p.ID IS NULL",
	"pictures of content": "SELECT COUNT(*) FROM sk_postmeta m LEFT JOIN sk_posts p ON p.ID = m.meta_value WHERE " +
		"m.meta_key = '_thumbnail_id' AND p.ID IS NULL",
	"authors": "SELECT COUNT(*) FROM sk_posts p LEFT JOIN sk_users u ON u.ID = p.post_author WHERE " +
		"p.post_author > 0 AND u.ID IS NULL",
	"parents": "SELECT COUNT(*) FROM sk_posts p LEFT JOIN sk_posts o ON o.ID = p.post_parent WHERE " +
		"p.post_parent > 0 AND o.ID IS NULL",
	"comments": "SELECT COUNT(*) FROM sk_comments c LEFT JOIN sk_posts p ON p.ID = c.comment_post_ID " +
		"WHERE p.ID IS NULL",
	"who commented": "SELECT COUNT(*) FROM sk_comments c LEFT JOIN sk_users u ON u.ID = c.user_id WHERE " +
		"c.user_id > 0 AND u.ID IS NULL",
	"fields of people": "SELECT COUNT(*) FROM sk_usermeta m LEFT JOIN sk_users u ON u.ID = m.user_id WHERE " +
		"u.ID IS NULL",
	"groups of content": "SELECT COUNT(*) FROM sk_term_relationships r LEFT JOIN sk_posts p ON p.ID = r.object_id " +
		"JOIN sk_term_taxonomy x ON x.term_taxonomy_id = r.term_taxonomy_id WHERE x.taxonomy <> 'link_category' AND " +
		"p.ID IS NULL",
	"groups": "SELECT COUNT(*) FROM sk_term_relationships r LEFT JOIN sk_term_taxonomy x ON " +
		"x.term_taxonomy_id = r.term_taxonomy_id WHERE x.term_taxonomy_id IS NULL",
	"names of groups": "SELECT COUNT(*) FROM sk_term_taxonomy x LEFT JOIN sk_terms t ON t.term_id = x.term_id " +
		"WHERE t.term_id IS NULL",
	"groups above groups": "SELECT COUNT(*) FROM sk_term_taxonomy x LEFT JOIN sk_term_taxonomy o ON o.term_id = " +
		"x.parent WHERE x.parent > 0 AND o.term_id IS NULL",
	"somebody can sign in": "SELECT 1 - LEAST(1, COUNT(*)) FROM sk_usermeta WHERE meta_key = 'sk_capabilities' AND " +
		"meta_value LIKE '%administrator%'",
}

func nothingDangles(t *testing.T, s site.Site) {
	t.Helper()
	for what, q := range dangling {
		assert.Zero(t, count(t, s, q), what)
	}
}

// populate gives the origin customers, orders and content that hang together.
func populate(t *testing.T, run func(string)) {
	t.Helper()
	const columns = "INSERT INTO sk_posts (ID, post_author, post_parent, post_type, post_status, post_title, " +
		"post_content, post_excerpt, to_ping, pinged, post_content_filtered, post_name) VALUES "
	for _, q := range []string{
		"INSERT INTO sk_users (ID, user_login, user_nicename, user_email) VALUES (900, 'buyer', 'buyer', " +
			"'buyer@skerryline.example'), (901, 'writer', 'writer', 'writer@skerryline.example')",
		"INSERT INTO sk_usermeta (user_id, meta_key, meta_value) VALUES (900, 'sk_capabilities', " +
			"'a:1:{s:8:\"customer\";b:1;}')",
		columns + "(9001, 900, 0, 'shop_order', 'publish', 'order', '', '', '', '', '', 'order-1'), (9002, 900, " +
			"9001, 'shop_order_refund', 'publish', 'refund', '', '', '', '', '', 'refund-1')",
		columns +
			"(9003, 901, 0, 'attachment', 'inherit', 'a chart', '', '', '', '', '', 'chart'), (9004, 901, 0, " +
			"'attachment', 'inherit', 'nobody names it', '', '', '', '', '', 'alone')",
		columns +
			"(9005, 901, 0, 'post', 'publish', 'With a chart', '<!-- wp:image {\"id\":9003} --><img " +
			"class=\"wp-image-9003\"/>', '', '', '', '', 'with-a-chart'), (9006, 901, 9005, 'revision', 'inherit', " +
			"'before', '', '', '', '', '', '9005-revision')",
		"INSERT INTO sk_terms (term_id, name, slug) VALUES (950, 'North', 'north'), (951, 'Far north', 'far-north'), " +
			"(952, 'Nowhere', 'nowhere')",
		"INSERT INTO sk_term_taxonomy (term_taxonomy_id, term_id, taxonomy, description, parent) VALUES (960, 950, " +
			"'category', '', 0), (961, 951, 'category', '', 950), (962, 952, 'category', '', 0)",
		"INSERT INTO sk_term_relationships (object_id, term_taxonomy_id) VALUES (9005, 961), (9001, 962)",
		"INSERT INTO sk_comments (comment_ID, comment_post_ID, user_id, comment_author, comment_content) VALUES " +
			"(970, 9005, 900, 'b', 'Thanks')",
	} {
		run(q)
	}
}

func TestOnlySomeKindsOfContent(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live, err := w.Desk.Fleet.Inspect(ctx, w.Site(origin).ID)
	require.NoError(t, err)
	assert.Zero(t, live.Facts.Has(site.Orders))
	assert.Positive(t, live.Facts.Has(site.Comments))
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
	require.NoError(t, err)
	c.Name, c.Only, c.Empty = "few", []site.Kind{site.Pages}, []string{"sk_links"}
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "there is no such table")
	c.Empty = []string{"sk_postmeta"}
	p, err = w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	assert.Contains(t, p.RowsText(), "at most ", "what others need is known when it was looked for")
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State)
	for i, step := range r.Steps {
		assert.Equal(t, p.Steps[i].Work, step.Done, step.Name)
	}
	s, err := w.Desk.Fleet.Inspect(ctx, w.Site("few").ID)
	require.NoError(t, err)
	assert.Positive(t, s.Facts.Rows)
	assert.LessOrEqual(t, s.Facts.Rows, p.Rows, "the figure comes true")
	assert.True(t, s.Proof.Holds)
	assert.Zero(t, count(t, s, "SELECT COUNT(*) FROM sk_postmeta"))
	assert.Zero(t, count(t, s, "SELECT COUNT(*) FROM sk_comments"))
	assert.Zero(t, count(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_type = 'post'"))
	assert.Equal(t, live.Facts.Has(site.Pages), count(t, s, "SELECT COUNT(*) FROM sk_posts WHERE post_type = 'page'"))
	assert.Positive(t, count(t, s, "SELECT COUNT(*) FROM sk_terms"),
		"without taxonomies nothing tells which of them are needed")
	apart, err := w.Desk.Copies.Apart(ctx, s.ID)
	require.NoError(t, err)
	assert.Zero(t, apart.Origin+apart.Copy, "what stayed behind is no change")
}

func TestOnlySomeKindsOfARealSite(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	populate(t, func(q string) { onOrigin(t, live, q) })
	w.Keep()
	live, err := w.Desk.Fleet.Inspect(context.Background(), live.ID)
	require.NoError(t, err)
	assert.Equal(t, 2, live.Facts.Has(site.Orders))
	few := clonetest.CopyOf(w, live, "few", func(c *clone.Choices) {
		c.Only, c.Empty = []site.Kind{site.Posts, site.Products}, []string{"sk_links"}
	})
	clonetest.Holds(t, w, few)
	nothingDangles(t, few)
	for q, n := range map[string]int{
		"SELECT COUNT(*) FROM sk_posts WHERE post_type IN ('shop_order', 'shop_order_refund')": 0,
		// a post, its picture, its revision
		"SELECT COUNT(*) FROM sk_posts WHERE ID IN (9003, 9005, 9006)": 3,
		"SELECT COUNT(*) FROM sk_posts WHERE ID = 9004":                0,
		"SELECT COUNT(*) FROM sk_users WHERE ID IN (900, 901)":         1, // the writer
		"SELECT COUNT(*) FROM sk_terms WHERE term_id IN (950, 951)":    2,
		"SELECT COUNT(*) FROM sk_terms WHERE term_id = 952":            0,
		"SELECT COUNT(*) FROM sk_comments":                             0,
		"SELECT COUNT(*) FROM sk_links":                                0,
	} {
		assert.Equal(t, n, count(t, few, q), q)
	}
	said := clonetest.CopyOf(w, live, "said", func(c *clone.Choices) { c.Only = []site.Kind{site.Pages, site.Comments} })
	clonetest.Holds(t, w, said)
	nothingDangles(t, said)
	assert.Equal(t, 1, count(t, said, "SELECT COUNT(*) FROM sk_posts WHERE ID = 9005"), "a comment stands under it")
	assert.Equal(t, 2, count(t, said, "SELECT COUNT(*) FROM sk_users WHERE ID IN (900, 901)"))
	assert.Zero(t, count(t, said, "SELECT COUNT(*) FROM sk_posts WHERE post_type LIKE 'shop%'"))

	onOrigin(t, live, "UPDATE sk_posts SET post_title = 'newer' WHERE ID IN (9001, 9005)")
	p, err := w.Desk.Copies.PlanRefresh(context.Background(), said.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, noteOf(r, "tables"), "brought again, in")
	clonetest.Holds(t, w, w.Site("said"))
	assert.Equal(t, 1, count(t, said, "SELECT COUNT(*) FROM sk_posts WHERE post_title = 'newer'"),
		"and what was not wanted stays behind")
}
