package carry_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Rows of tables that are known by words, or by several values, are told, merged and carried like all others; where one
// side made one of a name that the other made too, it is one row.
func TestTablesKnownByWordsAreCarried(t *testing.T) {
	w, live, s := pair(t, "CREATE TABLE sk_tariffs (code VARCHAR(20) PRIMARY KEY, fare INT, words TEXT, n INT DEFAULT 0) "+
		"ENGINE=InnoDB", "CREATE TABLE sk_berths (pier CHAR(8), day DATE, free INT, PRIMARY KEY (pier, day)) ENGINE=InnoDB",
		"DROP TABLE sk_skerry_sailings", "CREATE TABLE sk_pages_seen (url VARCHAR(120) PRIMARY KEY, n INT) ENGINE=InnoDB",
		"INSERT INTO sk_tariffs VALUES ('adult', 12, 'a', 0), ('child', 6, 'b', 0), ('dog', 2, 'c', 0)",
		"INSERT INTO sk_berths VALUES ('north', '2027-01-01', 4), ('north', '2027-01-02', 4)",
		"INSERT INTO sk_pages_seen SELECT option_value, 1 FROM sk_options WHERE option_name = 'home'")
	require.Empty(t, lines(drifted(t, w, s)))
	on(t, s, "UPDATE sk_tariffs SET words = 'of the copy' WHERE code = 'adult'",
		"INSERT INTO sk_tariffs VALUES ('bike', 3, 'd', 0), ('kayak', 4, 'copy', 0)",
		"DELETE FROM sk_tariffs WHERE code = 'dog'", "UPDATE sk_berths SET free = 3 WHERE day = '2027-01-02'")
	on(t, live, "UPDATE sk_tariffs SET fare = 13 WHERE code = 'adult'",
		"INSERT INTO sk_tariffs VALUES ('kayak', 5, 'live', 0)",
		"INSERT INTO sk_berths VALUES ('south', '2027-01-01', 1)")
	assert.Equal(t, []string{
		`row:sk_berths/north, 2027-01-02 row of sk_berths "north, 2027-01-02" copy changed live : free`,
		`row:sk_berths/south, 2027-01-01 row of sk_berths "south, 2027-01-01" copy  live made: `,
		`row:sk_tariffs/adult row of sk_tariffs "adult" copy changed live changed: fare words`,
		`row:sk_tariffs/bike row of sk_tariffs "bike" copy made live : `,
		`row:sk_tariffs/dog row of sk_tariffs "dog" copy gone live : `,
		`row:sk_tariffs/kayak row of sk_tariffs "kayak" copy made live made: fare words`,
	}, lines(drifted(t, w, s)))
	p, err := bothWays(w, s, map[string]carry.Side{"row:sk_tariffs/kayak": carry.Copy})
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Empty(t, lines(drifted(t, w, s)))
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "adult 13 of the copy,bike 3 d,child 6 b,kayak 4 copy", get(t, side, "SELECT GROUP_CONCAT("+
			"CONCAT_WS(' ', code, fare, words) ORDER BY code) FROM sk_tariffs"))
		assert.Equal(t, "north 2027-01-01 4,north 2027-01-02 3,south 2027-01-01 1", get(t, side, "SELECT GROUP_CONCAT("+
			"CONCAT_WS(' ', pier, day, free) ORDER BY pier, day) FROM sk_berths"))
	}
	undone(t, w, r.ID)
	assert.Len(t, lines(drifted(t, w, s)), 6)

	on(t, live, "UPDATE sk_pages_seen SET n = 2")
	d, err := w.Desk.Copies.Drift(t.Context(), s.ID)
	require.NoError(t, err)
	require.Len(t, d.Uncovered, 1)
	assert.Equal(t, "table sk_pages_seen", d.Uncovered[0].What())
	assert.Contains(t, d.Uncovered[0].Why, "known by addresses")
}
