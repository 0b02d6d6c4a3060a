package carry_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/drift"
	"alibi/internal/op/carry"
)

func TestWhatIsCarriedIsStoredUnderAName(t *testing.T) {
	home := t.TempDir()
	_, err := carry.ReadProfile(home, "words")
	assert.EqualError(t, err, "no profile is called words: none is stored yet; --save NAME stores one")
	want := carry.Profile{To: "live", Kinds: []string{"page", "setting"}, But: []string{"setting:blogname"}}
	require.NoError(t, carry.WriteProfile(home, "words", want))
	got, err := carry.ReadProfile(home, "words")
	require.NoError(t, err)
	assert.Equal(t, want, got)
	_, err = carry.ReadProfile(home, "../words")
	assert.ErrorContains(t, err, "is no name of a profile")
	assert.ErrorContains(t, carry.WriteProfile(home, "Two Words", want), `try "two-words"`)
	file := filepath.Join(home, "profiles", "words.toml")
	require.NoError(t, os.WriteFile(file, []byte("to = 'live'\ncolour = 1\n"), 0o600))
	_, err = carry.ReadProfile(home, "words")
	assert.ErrorContains(t, err, `words.toml, line 2: there is nothing called "colour" in a profile`)

	w := carry.Wish{Kinds: got.Kinds, But: got.But}
	for name, picked := range map[string]bool{"setting:blogname": false, "setting:other": true} {
		assert.Equal(t, picked, w.Picks(&drift.Item{Name: name, Kind: "setting"}), name)
	}
	assert.True(t, w.Picks(&drift.Item{Name: "post:1", Kind: "page"}))
	w.SubSite = "2"
	row := []*drift.Row{{}}
	assert.True(t, w.Picks(&drift.Item{Name: "post:2/1", Kind: "page", Rows: row}))
	assert.False(t, w.Picks(&drift.Item{Name: "post:1", Kind: "page", Rows: row}), "it is of another one")
	assert.False(t, w.Picks(&drift.Item{Name: "page:2/1", Kind: "page"}), "files are of all")
	w.Items = []string{"setting:blogname"}
	assert.True(t, w.Picks(&drift.Item{Name: "setting:blogname", Kind: "setting"}), "what is named is meant")
}
