package carry_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/baseline"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// another makes one more copy of the live site.
func another(t *testing.T, w *realtest.World, live site.Site, name string, choose func(*clone.Choices)) site.Site {
	t.Helper()
	ctx := context.Background()
	c, err := w.Desk.Copies.CopyDefaults(ctx, live, "a test")
	require.NoError(t, err)
	c.Name, c.Scrub = name, "off"
	choose(&c)
	p, err := w.Desk.Copies.PlanCopy(ctx, live.ID, c)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return w.Site(name)
}

// Two copies of one live site, which went on between the two, are a pair: what either changed is told, with what the
// later one has of the live site since, and carried by one run; each keeps what makes it the copy that it is.
func TestTwoCopiesOfOneSiteAreAPair(t *testing.T) {
	ctx := context.Background()
	w, live, winter := pair(t, fmt.Sprintf(insertPost, 9001, "text", "Quay", "quay", "g"),
		fmt.Sprintf(insertPost, 9002, "text", "Pier", "pier", "g"))
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'of live since' WHERE ID = 9001",
		"DELETE FROM sk_posts WHERE ID = 9002", fmt.Sprintf(insertPost, 9003, "text", "Jetty", "jetty", "g"))
	write(t, live, map[string]string{skin + "extra.css": "b{}"})
	summer := another(t, w, live, "summer", func(*clone.Choices) {})
	first, second := carry.InOrder(winter, summer)
	of := func(s site.Site) carry.Side {
		return map[site.ID]carry.Side{first.ID: carry.Live, second.ID: carry.Copy}[s.ID]
	}
	drift := func() (out []string) {
		t.Helper()
		d, err := w.Desk.Copies.DriftWith(ctx, winter.ID, summer.ID)
		require.NoError(t, err)
		assert.Equal(t, [2]string{first.Name, second.Name}, d.Sides)
		for _, it := range d.Items {
			if it.Noise || it.Marks {
				continue
			}
			l, c := it.Live, it.Copy
			if of(winter) == carry.Copy {
				l, c = c, l
			}
			out = append(out, fmt.Sprintf("%s winter %s summer %s: %s", it.Name, l, c, strings.Join(it.Fields, " ")))
		}
		return out
	}
	assert.ElementsMatch(t, []string{"post:9001 winter  summer changed: post_excerpt", "post:9002 winter  summer gone: ",
		"post:9003 winter  summer made: ", "theme:skerry winter  summer changed: extra.css"}, drift(),
		"what the later one has of the live site since is a change of it")

	at := strings.TrimSuffix(winter.Address().String(), "/")
	on(t, winter, "UPDATE sk_posts SET post_title = 'Winter quay', post_content = 'See "+at+"/x' WHERE ID = 9001",
		fmt.Sprintf(insertPost, 9003, "of winter", "Ice", "ice", "g"))
	write(t, winter, map[string]string{"robots.txt": "User-agent: *"})
	wish := carry.Wish{All: true, With: summer.ID}
	p, err := w.Desk.Copies.PlanSync(ctx, winter.ID, wish, wish)
	require.NoError(t, err)
	require.False(t, p.Blocked(), "%v", p.Findings)
	assert.Empty(t, p.Confirm, "neither is a live site")
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Empty(t, drift())
	const posts = "SELECT GROUP_CONCAT(CONCAT_WS('|', post_title, post_excerpt, post_content) ORDER BY post_title) FROM " +
		"sk_posts WHERE ID > 9000"
	for _, s := range []site.Site{winter, summer} {
		assert.Equal(t, "Ice||of winter,Jetty||text,Winter quay|of live since|See "+
			strings.TrimSuffix(s.Address().String(), "/")+"/x", get(t, s, posts))
		assert.FileExists(t, filepath.Join(s.Root, "robots.txt"))
		assert.FileExists(t, filepath.Join(s.Root, skin, "extra.css"))
		assert.Contains(t, get(t, s, "SELECT option_value FROM sk_options WHERE option_name = 'siteurl'"),
			s.Address().HostPort())
	}
	assert.Equal(t, "of live since", get(t, live, "SELECT post_excerpt FROM sk_posts WHERE ID = 9001"))
	assert.Equal(t, "Quay", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = 9001"), "the live site stays")
	undone(t, w, r.ID)
	assert.Len(t, drift(), 6)

	small := another(t, w, live, "small", func(c *clone.Choices) { c.Only = []site.Kind{site.Pages} })
	_, err = w.Desk.Copies.DriftWith(ctx, winter.ID, small.ID)
	assert.ErrorContains(t, err, "small has some content of its origin only")
	_, err = w.Desk.Copies.DriftWith(ctx, winter.ID, live.ID)
	assert.ErrorContains(t, err, "is a live site")
}

// Where it is not known which of two copies has the older state, what their origins had in different ways was changed
// on both.
func TestTheCommonStateOfTwoCopies(t *testing.T) {
	ctx := context.Background()
	made := func(name string, rows map[uint64]baseline.Pair) *baseline.Baseline {
		b, err := baseline.Create(filepath.Join(t.TempDir(), name))
		require.NoError(t, err)
		t.Cleanup(func() { b.Close() })
		require.NoError(t, b.Amend(ctx, "t", rows, nil))
		require.NoError(t, b.PutMeta(ctx, baseline.Meta{}))
		return b
	}
	one := made("one", map[uint64]baseline.Pair{1: {Origin: 10, Copy: 11}, 2: {Origin: 20, Copy: 21},
		3: {Origin: 30, Copy: 31}})
	two := made("two", map[uint64]baseline.Pair{1: {Origin: 10, Copy: 12}, 2: {Origin: 25, Copy: 26},
		4: {Origin: 40, Copy: 41}})
	for older, want := range map[baseline.Older]map[uint64]baseline.Pair{
		baseline.FirstOlder:  {1: {Origin: 11, Copy: 12}, 2: {Origin: 21, Copy: 1}, 3: {Origin: 31, Copy: 1}},
		baseline.SecondOlder: {1: {Origin: 11, Copy: 12}, 2: {Origin: 1, Copy: 26}, 4: {Origin: 1, Copy: 41}},
		baseline.NotKnown: {1: {Origin: 11, Copy: 12}, 2: {Origin: 1, Copy: 1}, 3: {Origin: 1, Copy: 1},
			4: {Origin: 1, Copy: 1}},
	} {
		path := filepath.Join(t.TempDir(), "joined")
		require.NoError(t, baseline.Join(ctx, path, one, two, older))
		b, err := baseline.Open(path)
		require.NoError(t, err)
		got, err := b.Table(ctx, "t")
		require.NoError(t, err)
		require.NoError(t, b.Close())
		assert.Equal(t, want, got, older)
	}
}
