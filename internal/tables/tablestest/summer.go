package tablestest

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
)

// testSummer tests that what an engine says of rows without giving them is what they
// are: their keys, their digests, their sums, and which of them a text stands in.
func testSummer(t *testing.T, e Engine) {
	ctx := context.Background()
	db := e.Make(t, e.Schema...)
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	_, can := s.(tables.Summer)
	require.NoError(t, s.Close())
	if !can {
		return // its rows are read
	}
	texts := []any{nil, "", "of skerryline.example", "SKERRYLINE.Example", "sk\x00erry", "東京", "skerryline",
		[]byte("skerryline.example")}
	for i := range 64 {
		title, body := texts[i%len(texts)], texts[(i/8)%len(texts)]
		require.NoError(t, db.Exec(ctx, "INSERT INTO posts (id, title, body, n, f) VALUES (?, ?, ?, ?, ?)", i*3, title,
			body, i-32, float64(i)/3))
		require.NoError(t, db.Exec(ctx, "INSERT INTO pairs (a, b, v) VALUES (?, ?, ?)", i%5, fmt.Sprint("k", i), title))
	}
	s, err = db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	sums := s.(tables.Summer)
	for _, table := range []string{"posts", "pairs"} {
		tab, ok := s.Schema().Table(table)
		require.True(t, ok)
		want := digests(t, s, table)
		parts, err := s.Ranges(ctx, table, 10)
		require.NoError(t, err)
		testSums(t, sums, table, want, []tables.Range{{}})
		testSums(t, sums, table, want, parts)
		testFinds(t, sums, tab, tables.Search{Fold: []string{"skerryline.example"}})
		testFinds(t, sums, tab, tables.Search{Exact: []string{"skerryline.example", "東京"}})
		testFinds(t, sums, tab, tables.Search{All: true})
		testPicks(t, sums, table)
		testGroups(t, s, tab, tables.Search{Fold: []string{"skerryline.example"}})
	}
}

// testGroups tests that groups of rows add up to what their rows do.
func testGroups(t *testing.T, s tables.Snapshot, tab tables.Table, search tables.Search) {
	t.Helper()
	ctx := context.Background()
	g, can := s.(tables.Grouper)
	if !can {
		return
	}
	for _, per := range []int64{1, 10, 1000} {
		want, got := map[int64]tables.Group{}, map[int64]tables.Group{}
		require.NoError(t, g.Sums(ctx, tab.Name, tables.Range{}, search, func(k []tables.Value, d tables.Digest,
			found bool) error {
			is := want[k[0].Int/per]
			is.At, is.Sum.Rows, is.Sum.Sum = k[0].Int/per, is.Sum.Rows+1, is.Sum.Sum+d[0]
			if found {
				is.Found++
			}
			want[is.At] = is
			return nil
		}))
		can, err := g.Groups(ctx, tab.Name, per, search, func(g tables.Group) error {
			got[g.At] = g
			return nil
		})
		require.NoError(t, err)
		require.Equal(t, len(tab.Key) == 1, can, "its key is one number")
		if can {
			assert.Equal(t, want, got)
		}
	}
}

// digests gives the digest of each row by its address, as reading the rows gives them.
func digests(t *testing.T, s tables.Snapshot, table string) map[string]tables.Digest {
	t.Helper()
	out := map[string]tables.Digest{}
	var buf []byte
	require.NoError(t, s.Read(context.Background(), table, tables.Range{}, func(r tables.Row) error {
		out[r.Address()], buf = s.Digest(table, r, buf)
		return nil
	}))
	return out
}

// testSums tests that the parts of a table give each row once, with its digest.
func testSums(t *testing.T, s tables.Summer, table string, want map[string]tables.Digest, parts []tables.Range) {
	t.Helper()
	ctx := context.Background()
	got, rows, sum := map[string]tables.Digest{}, int64(0), uint64(0)
	for _, p := range parts {
		give := func(key []tables.Value, d tables.Digest, _ bool) error {
			got[tables.Row{Key: key}.Address()] = d
			return nil
		}
		require.NoError(t, s.Sums(ctx, table, p, tables.Search{}, give))
		n, total, err := s.Total(ctx, table, p)
		require.NoError(t, err)
		rows, sum = rows+n, sum+total
	}
	assert.Equal(t, want, got, table)
	assert.EqualValues(t, len(want), rows, table)
	all := uint64(0)
	for d := range maps.Values(want) {
		all += d[0]
	}
	assert.Equal(t, all, sum, table)
}

// testFinds tests that a search passes by no row in which it is; it may give more.
func testFinds(t *testing.T, s tables.Summer, tab tables.Table, search tables.Search) {
	t.Helper()
	ctx := context.Background()
	found := map[string]bool{}
	give := func(key []tables.Value, _ tables.Digest, hit bool) error {
		found[tables.Row{Key: key}.Address()] = hit
		return nil
	}
	require.NoError(t, s.Sums(ctx, tab.Name, tables.Range{}, search, give))
	require.NoError(t, s.Read(ctx, tab.Name, tables.Range{}, func(r tables.Row) error {
		if isIn(search, r) {
			assert.True(t, found[r.Address()], "%s: %s", tab.Name, r.Address())
		}
		return nil
	}))
	share, err := s.Share(ctx, tab.Name, search)
	require.NoError(t, err)
	assert.True(t, share > 0 && share <= 1, "some of the rows: %v", share)
	none, err := s.Share(ctx, tab.Name, tables.Search{Exact: []string{"no row holds this"}})
	require.NoError(t, err)
	assert.Zero(t, none)
}

// isIn tells whether a search is in a row.
func isIn(s tables.Search, r tables.Row) bool {
	return s.All || slices.ContainsFunc(r.Values, func(v tables.Value) bool {
		text := string(v.Bytes)
		return slices.ContainsFunc(s.Exact, func(x string) bool { return strings.Contains(text, x) }) ||
			slices.ContainsFunc(s.Fold, func(x string) bool { return strings.Contains(strings.ToLower(text), x) })
	})
}

// testPicks tests that picking gives the rows that are asked for, and no others.
func testPicks(t *testing.T, s tables.Summer, table string) {
	t.Helper()
	ctx := context.Background()
	var keys [][]tables.Value
	var want, got []string
	n := 0
	require.NoError(t, s.Read(ctx, table, tables.Range{}, func(r tables.Row) error {
		if n++; n%7 == 0 {
			keys = append(keys, tables.Keep(r.Key))
			want = append(want, fmt.Sprint(r.Address(), r.Values))
		}
		return nil
	}))
	missing := tables.Keep(keys[0])
	missing[0] = tables.Value{Kind: tables.Int, Int: 1 << 40}
	keys = append(keys, missing)
	require.NoError(t, s.Pick(ctx, table, keys, func(r tables.Row) error {
		got = append(got, fmt.Sprint(r.Address(), r.Values))
		return nil
	}))
	slices.Sort(want)
	slices.Sort(got)
	assert.Equal(t, want, got, table)
}
