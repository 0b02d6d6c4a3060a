package internal

import (
	"bufio"
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What fits a screen is read: so many columns, and so many lines of a file.
const (
	mostColumns = 120
	mostFile    = 500
)

func TestWhatIsReadFitsAScreen(t *testing.T) {
	files := 0
	for _, top := range []string{".", "../cmd", "../bench"} {
		require.NoError(t, filepath.WalkDir(top, func(name string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(name, ".go") {
				return err
			}
			files++
			text, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			fits(t, name, text)
			return nil
		}))
	}
	assert.Greater(t, files, 300)
}

func fits(t *testing.T, name string, text []byte) {
	t.Helper()
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	n := 0
	for ; lines.Scan(); n++ {
		assert.LessOrEqual(t, utf8.RuneCount(lines.Bytes()), mostColumns, "columns of %s:%d", name, n+1)
	}
	require.NoError(t, lines.Err())
	assert.LessOrEqual(t, n, mostFile, "lines of %s", name)
}
