package keep_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"alibi/internal/demo/demotest"
	"alibi/internal/tree"
)

// A file whose bytes were changed and whose size and time were not is kept as it is now.
func TestAForgedFileIsKeptAsItIs(t *testing.T) {
	w := demotest.New(t)
	w.Keep()
	ctx := context.Background()
	live := w.Site("status.skerryline.example") // it stands on this machine, which tells change times
	file := filepath.Join(live.Root, "mine.txt")
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.WriteFile(file, []byte("at first"), 0o644))
	require.NoError(t, os.Chtimes(file, old, old))
	kept := func(name string) tree.Hash {
		t.Helper()
		p := keepNow(t, w, live, name)
		d, err := w.Desk.Workings().Depot(ctx)
		require.NoError(t, err)
		files, err := d.Files(ctx, p.Point)
		require.NoError(t, err)
		for _, f := range files {
			if f.Path == "mine.txt" {
				return f.Hash
			}
		}
		t.Fatal("the file is not in the point")
		return tree.Hash{}
	}
	assert.Equal(t, tree.Hash(blake3.Sum256([]byte("at first"))), kept("one"))
	require.NoError(t, os.WriteFile(file, []byte("changed!"), 0o644))
	require.NoError(t, os.Chtimes(file, old, old))
	assert.Equal(t, tree.Hash(blake3.Sum256([]byte("changed!"))), kept("two"))
}
