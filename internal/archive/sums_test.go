package archive

import (
	"crypto/sha256"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSumsAreWhatSha256sumChecks(t *testing.T) {
	dir := t.TempDir()
	list := ""
	for _, name := range []string{"plain.txt", "a\nb", "a\\b", "a\rb", " blank"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
		sum := sha256.Sum256([]byte(name))
		list += sumLine(sum[:], name) + "\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "SUMS"), []byte(list), 0o644))
	cmd := exec.Command("sha256sum", "-c", "--strict", "SUMS")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	assert.NoError(t, err, string(out))
}
