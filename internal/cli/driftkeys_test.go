package cli

import (
	"database/sql"
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/plan"
)

// SQLite knows the rows of most tables by numbers of its own. Both sides give such a number to another row, and a row
// that was taken out and put in again has another number.
func TestGroupsAreCarriedWhereSQLiteNumbersTheirRows(t *testing.T) {
	w := demotest.New(t)
	ok := doing(t, "--home="+w.Home)
	db, err := sql.Open("sqlite", "file:"+w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	live := func(q string) {
		t.Helper()
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	live("CREATE TABLE n (object_id BIGINT NOT NULL DEFAULT 0, term_taxonomy_id BIGINT NOT NULL DEFAULT 0, " +
		"term_order INT NOT NULL DEFAULT 0, PRIMARY KEY (object_id, term_taxonomy_id)); DROP TABLE sk_term_relationships; " +
		"ALTER TABLE n RENAME TO sk_term_relationships; INSERT INTO sk_term_relationships VALUES (1, 1, 0), (2, 1, 0), " +
		"(3, 1, 0), (4, 1, 0)")
	ok("copy", "skerryline.example", "--name", "winter")
	const nothing = "are as they were when they parted"
	assert.Contains(t, ok("drift", "winter"), nothing)

	live("DELETE FROM sk_term_relationships WHERE object_id = 4; INSERT INTO sk_term_relationships VALUES (5, 2, 0)")
	ok("query", "winter", "DELETE FROM sk_term_relationships WHERE object_id = 2", "--write")
	ok("query", "winter", "DELETE FROM sk_term_relationships WHERE object_id = 3", "--write")
	ok("query", "winter", "INSERT INTO sk_term_relationships VALUES (6, 2, 0), (3, 1, 0)", "--write")
	var d struct {
		Items []struct{ Item, Live, Copy string }
	}
	require.NoError(t, json.Unmarshal([]byte(ok("drift", "winter", "--json")), &d))
	var got []string
	for _, it := range d.Items {
		got = append(got, it.Item+" live "+it.Live+" copy "+it.Copy)
	}
	slices.Sort(got)
	assert.Equal(t, []string{"post:2 live  copy changed", "post:4 live changed copy ", "post:5 live changed copy ",
		"post:6 live  copy changed"}, got)
	ok("sync", "winter", "--all", "--to", "both", "--confirm", "skerryline.example")
	assert.Contains(t, ok("drift", "winter"), nothing)
	of := func(site string) string {
		return ok("query", site, "SELECT group_concat(object_id || '-' || term_taxonomy_id, ' ') AS n FROM (SELECT * FROM "+
			"sk_term_relationships ORDER BY object_id)")
	}
	assert.Contains(t, of("skerryline.example"), "1-1 3-1 5-2 6-2")
	assert.Contains(t, of("winter"), "1-1 3-1 5-2 6-2")
	ok("evidence", "winter")

	var runs []plan.Run
	require.NoError(t, json.Unmarshal([]byte(ok("runs", "--json")), &runs))
	ok("sync", "--undo", runs[0].ID, "--confirm", "skerryline.example") // of both ways
	assert.Contains(t, of("skerryline.example"), "1-1 2-1 3-1 5-2")
	assert.Contains(t, of("winter"), "1-1 3-1 4-1 6-2")
	ok("sync", "winter", "--all", "--to", "both", "--confirm", "skerryline.example")
	assert.Contains(t, of("winter"), "1-1 3-1 5-2 6-2")
	ok("refresh", "winter", "--confirm", "winter")
	assert.Contains(t, of("winter"), "1-1 3-1 5-2 6-2")
	assert.Contains(t, ok("drift", "winter"), nothing)
}
