package sealed_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asPerson runs this program's tests as an ordinary account, in a view of the machine's files in which that sees the
// cache of PHP versions and of the CMS, wherever it lies, has a place of its own for what tests keep there, and can
// sign in.
const asPerson = `set -e
mount --bind "$CACHE" "$HERE/cache"
[ -z "$HIDE" ] || mount -t tmpfs -o mode=755 none "$HIDE"
mkdir -p "$CACHE"
mount -t tmpfs -o mode=755 none "$CACHE"
for d in php cores wordpress; do
	mkdir "$CACHE/$d"
	mount --bind "$HERE/cache/$d" "$CACHE/$d"
done
chown 65533 "$CACHE"
{ cat /etc/passwd; echo "person:x:65533:65533:a person:$HERE/home:/bin/sh"; } >"$HERE/passwd"
mount --bind "$HERE/passwd" /etc/passwd
cd "$HERE/home"
exec setpriv --reuid 65533 --regid 65533 --clear-groups env -i "PATH=$PATH" "HOME=$HERE/home" "TMPDIR=$HERE/home" \
	"ALIBI_REAL=$CACHE" "$HERE/tests" -test.v -test.run "$1"`

// A copy of an ordinary person's Alibi is as shut in as one of root's, here and on another host.
func TestAHostileCopyOfAnOrdinaryPersonDoesNotGetOut(t *testing.T) {
	if os.Geteuid() != 0 {
		return // then TestAHostileCopyDoesNotGetOut has shown it
	}
	here, err := os.MkdirTemp("", "nobody-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(here) })
	require.NoError(t, os.Chmod(here, 0o755))
	cache := os.Getenv("ALIBI_REAL")
	if cache == "" {
		dir, err := os.UserCacheDir()
		require.NoError(t, err)
		cache = filepath.Join(dir, "alibi-real")
	}
	hide := "" // the highest folder that others can't look into
	for d := filepath.Dir(cache); d != "/"; d = filepath.Dir(d) {
		fi, err := os.Stat(d)
		require.NoError(t, err)
		if fi.Mode().Perm()&1 == 0 {
			hide = d
		}
	}
	program, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(here, "tests"), program, 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(here, "cache"), 0o755))
	home := filepath.Join(here, "home")
	require.NoError(t, os.CopyFS(filepath.Join(home, "testdata"), os.DirFS("testdata")))
	require.NoError(t, os.Chown(home, 65533, 65533))
	cmd := exec.Command("unshare", "--mount", "sh", "-c", asPerson, "sh",
		"^TestAHostileCopy(OnAnotherHost)?DoesNotGetOut$")
	cmd.Env = append(os.Environ(), "CACHE="+cache, "HERE="+here, "HIDE="+hide)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, 5, strings.Count(string(out), "--- PASS"), string(out))
}
