package cli

import (
	"crypto/sha256"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
)

// What is of one sub-site of a network goes home, and its siblings are to the byte what they were.
func TestASubSiteGoesHomeByItself(t *testing.T) {
	w := demotest.New(t)
	ok := doing(t, "--home="+w.Home)
	ok("copy", "islands.skerryline.example", "--name", "isles")
	change := func(q string) { t.Helper(); ok("query", "isles", q, "--write") }
	change("UPDATE sk_posts SET post_title = 'One' WHERE ID = 1")
	change("UPDATE sk_2_posts SET post_title = 'Two' WHERE ID = 1")
	change("UPDATE sk_3_posts SET post_title = 'Three' WHERE ID = 1")
	change("INSERT INTO sk_3_posts (ID, post_title, post_content, post_type, post_status, post_date, post_name) VALUES " +
		"(900, 'New', 'See " + w.Site("isles").Address().String() + "/mid/x', 'page', 'publish', '2028-01-01', 'new')")
	db, err := sql.Open("sqlite", "file:"+w.Dir("drydock", "/var/www/islands/wp-content/database/.ht.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	siblings := func() string {
		t.Helper()
		rows, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'table' AND substr(name, 1, 5) <> 'sk_3_' AND " +
			"name <> 'sqlite_sequence'")
		require.NoError(t, err)
		defer rows.Close()
		var names []string
		for rows.Next() {
			var n string
			require.NoError(t, rows.Scan(&n))
			names = append(names, n)
		}
		require.Greater(t, len(names), 20)
		h := sha256.New()
		for _, n := range names {
			list, err := db.Query("SELECT * FROM " + n + " ORDER BY 1, 2")
			require.NoError(t, err)
			columns, err := list.Columns()
			require.NoError(t, err)
			for list.Next() {
				values := make([]any, len(columns))
				for i := range values {
					values[i] = new(any)
				}
				require.NoError(t, list.Scan(values...))
				for _, v := range values {
					fmt.Fprint(h, *v.(*any), "\x00")
				}
			}
			require.NoError(t, list.Close())
		}
		return fmt.Sprintf("%x", h.Sum(nil))
	}
	before := siblings()
	ok("sync", "isles", "--sub-site", "3", "--to", "live", "--confirm", "islands.skerryline.example")
	assert.Equal(t, before, siblings())
	live := func(q string) string { t.Helper(); return ok("query", "islands.skerryline.example", q) }
	assert.Contains(t, live("SELECT post_title FROM sk_3_posts WHERE ID = 1"), "Three")
	assert.Contains(t, live("SELECT post_content FROM sk_3_posts WHERE ID = 900"),
		"https://islands.skerryline.example/mid/x")
	left := ok("drift", "isles")
	assert.Equal(t, 2, strings.Count(left, "post:"), left)
	code, _, errs := call(t, "sync", "isles", "--sub-site", "mid", "--to", "live", "--home="+w.Home)
	assert.NotZero(t, code)
	assert.Contains(t, errs, "write the number of a sub-site")
}
