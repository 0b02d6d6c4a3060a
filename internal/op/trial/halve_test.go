package trial

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestHalvingFindsASetOfWhichNothingCanBeLeftOut(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 24).Draw(t, "n")
		var items []string
		for i := range n {
			items = append(items, string(rune('a'+i)))
		}
		bad := rapid.SliceOfNDistinct(rapid.SampledFrom(items), 1, min(4, n), rapid.ID).Draw(t, "bad")
		asked := map[string]bool{}
		fails := func(set []string) bool {
			for _, b := range bad {
				if !slices.Contains(set, b) {
					return false
				}
			}
			return true
		}
		got, err := Halve(items, func(sets [][]string) ([]bool, error) {
			out := make([]bool, len(sets))
			for i, s := range sets {
				if asked[key(s)] {
					t.Fatalf("%v is tried twice", s)
				}
				asked[key(s)] = true
				out[i] = fails(s)
			}
			return out, nil
		})
		if err != nil {
			t.Fatal(err)
		}
		slices.Sort(bad)
		slices.Sort(got)
		if !slices.Equal(bad, got) {
			t.Fatalf("found %v, planted %v", got, bad)
		}
	})
}

func TestHalvingTakesFewTries(t *testing.T) {
	items := make([]string, 64)
	for i := range items {
		items[i] = string(rune('0' + i))
	}
	tries := 0
	got, err := Halve(items, func(sets [][]string) ([]bool, error) {
		out := make([]bool, len(sets))
		for i, s := range sets {
			tries++
			out[i] = slices.Contains(s, items[37])
		}
		return out, nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{items[37]}, got)
	assert.LessOrEqual(t, tries, 12, "two for each halving of 64")
	_, err = Halve(items, func([][]string) ([]bool, error) { return nil, errors.New("no room") })
	assert.ErrorContains(t, err, "no room")
}
