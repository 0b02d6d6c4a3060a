package carry_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/clone"
	"alibi/internal/site"
)

// someSeeds are fewer random histories than of usual copies, of other ones.
func someSeeds(t *testing.T) (from, n int) {
	from, n = seeds(t)
	return from + 100_000, (n + 3) / 4
}

const people = "SELECT CONCAT(GROUP_CONCAT(CONCAT_WS('\t', user_login, user_nicename, user_email, display_name) " +
	"ORDER BY ID SEPARATOR '\n'))"

// madeUp is what nobody has but those who are made up.
var madeUp = regexp.MustCompile(`scrubbed\.example|someone-[0-9a-f]{10}`)

// Histories of a copy whose people are made up: both sides come to have the same but for these, and none of them is
// on the live site.
func TestRandomHistoriesWithMadeUpPeopleMeet(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Scrub = "on" })
	from, n := someSeeds(t)
	for seed := from; seed < from+n; seed++ {
		require.True(t, t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			history(t, w, live, s, seed, alikeButPeople)
		}))
	}
}

// alikeButPeople wants both sides to have the same once the copy's people are called as the live site's.
func alikeButPeople(t *testing.T, live, s site.Site) {
	t.Helper()
	real, made := strings.Split(get(t, live, people+" FROM sk_users"), "\n"),
		strings.Split(get(t, s, people+" FROM sk_users"), "\n")
	require.Len(t, made, len(real))
	var names []string
	for i := range real {
		a, b := strings.Split(made[i], "\t"), strings.Split(real[i], "\t")
		for k := range a {
			names = append(names, a[k], b[k])
		}
	}
	a, b := stateOf(t, live), stateOf(t, s)
	b.State = json.RawMessage(strings.NewReplacer(names...).Replace(string(b.State)))
	ordered := func(line string) bool { return line == otherOrder } // by what people are called
	assert.Empty(t, slices.DeleteFunc(apart(a, b), ordered), "the live site has these and the copy has not")
	assert.Empty(t, slices.DeleteFunc(apart(b, a), ordered), "the copy has these and the live site has not")
	for table, columns := range map[string]string{"users": "user_login, user_email", "posts": "post_content, post_title",
		"comments": "comment_author, comment_author_email, comment_content", "postmeta": "meta_value",
		"usermeta": "meta_value", "options": "option_value"} {
		text := get(t, live, "SELECT CONCAT('', COALESCE(GROUP_CONCAT(CONCAT_WS(' ', "+columns+") SEPARATOR '\n'), '')) "+
			"FROM sk_"+table)
		assert.Empty(t, madeUp.FindString(text), "somebody is made up in the live site's %s", table)
	}
}

// Histories of a copy that has pages and pictures only: nothing of either side is lost, and no reference leads
// nowhere.
func TestRandomHistoriesOfACopyOfPagesMeet(t *testing.T) {
	w, live, s := pairOf(t, func(c *clone.Choices) { c.Only = []site.Kind{site.Pages, site.Media} })
	from, n := someSeeds(t)
	for seed := from; seed < from+n; seed++ {
		require.True(t, t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			history(t, w, live, s, seed, func(t *testing.T, live, s site.Site) {
				t.Helper()
				q := "SELECT GROUP_CONCAT(CONCAT_WS('|', ID, post_title, post_name, post_status, post_parent) ORDER BY ID " +
					"SEPARATOR '\n') FROM sk_posts WHERE post_type = 'page'"
				assert.Equal(t, get(t, live, q), get(t, s, q), "both have the same pages")
			})
		}))
	}
}
