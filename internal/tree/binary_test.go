package tree

import (
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/host"
)

func TestEntriesInBinaryFormAreTheSame(t *testing.T) {
	when := rapid.Custom(func(t *rapid.T) time.Time {
		if rapid.Bool().Draw(t, "no time") {
			return time.Time{}
		}
		return time.Unix(rapid.Int64Range(-1<<40, 1<<40).Draw(t, "s"), rapid.Int64Range(0, 1e9-1).Draw(t, "ns")).UTC()
	})
	rapid.Check(t, func(t *rapid.T) {
		e := Entry{
			Path:    "of/a file",
			Mode:    fs.FileMode(rapid.Uint32().Draw(t, "mode")),
			Size:    rapid.Int64().Draw(t, "size"),
			MTime:   when.Draw(t, "mtime"),
			Link:    rapid.String().Draw(t, "link"),
			Changed: when.Draw(t, "changed"),
		}
		if rapid.Bool().Draw(t, "digested") {
			e.Hash = Hash{1, 2, 3}
		}
		if rapid.Bool().Draw(t, "owned") {
			e.Owner = &host.Owner{User: rapid.Int().Draw(t, "user"), Group: -1}
		}
		if rapid.Bool().Draw(t, "attrs") {
			e.Attrs = host.Attrs(rapid.MapOf(rapid.String(), rapid.SliceOfN(rapid.Byte(), 1, 9)).Draw(t, "attrs"))
		}
		b, err := e.AppendBinary(nil)
		require.NoError(t, err)
		got := Entry{Path: e.Path}
		require.NoError(t, got.UnmarshalBinary(b))
		require.Equal(t, e, got)
		cut := rapid.IntRange(0, len(b)-1).Draw(t, "cut")
		assert.Error(t, new(Entry).UnmarshalBinary(b[:cut]), "what is cut off is seen")
		assert.Error(t, new(Entry).UnmarshalBinary(append(b, 0)), "and what follows")
	})
}
