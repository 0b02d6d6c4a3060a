package evidence_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func file(kind, says string, do func(t *testing.T, root string)) injury {
	return injury{kind: kind, file: do, check: "files", says: says}
}

// at is a file below the folder that file injuries have of their own.
func at(root, name string) string { return filepath.Join(root, "wp-content", "injured", name) }

func write(name, text string) func(*testing.T, string) {
	return func(t *testing.T, root string) { require.NoError(t, os.WriteFile(at(root, name), []byte(text), 0o644)) }
}

func instead(name string, do func(name string) error) func(*testing.T, string) {
	return func(t *testing.T, root string) {
		require.NoError(t, os.RemoveAll(at(root, name)))
		require.NoError(t, do(at(root, name)))
	}
}

// fileInjuries change files and folders below wp-content/injured; see ownFiles.
var fileInjuries = []injury{
	file("one byte of a file", "byte.php is different", write("byte.php", "<?php echo 2;")),
	file("a file cut off", "cut.php is different", write("cut.php", "<?php ec")),
	file("an emptied file", "emptied.php is different", write("emptied.php", "")),
	file("text behind a file", "behind.php is different", write("behind.php", "<?php echo 1;\neval(1);")),
	file("the middle of a large file", "large.bin is different", func(t *testing.T, root string) {
		f, err := os.OpenFile(at(root, "large.bin"), os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte{1}, 1<<20)
		require.NoError(t, err)
		f.Close()
	}),
	file("other bytes of the same size and time", "forged.php is different", func(t *testing.T, root string) {
		fi, err := os.Stat(at(root, "forged.php"))
		require.NoError(t, err)
		write("forged.php", "<?php echo 9;")(t, root)
		require.NoError(t, os.Chtimes(at(root, "forged.php"), fi.ModTime(), fi.ModTime()))
	}),
	file("a missing file", "missing.php is missing",
		func(t *testing.T, root string) { require.NoError(t, os.Remove(at(root, "missing.php"))) }),
	file("an extra file", "extra.php is not on the origin", write("extra.php", "x")),
	file("a hidden extra file", ".hidden is not on the origin", write(".hidden", "x")),
	file("a renamed file", "renamed.php is missing", func(t *testing.T, root string) {
		require.NoError(t, os.Rename(at(root, "renamed.php"), at(root, "other.php")))
	}),
	file("a name in another case", "case.php is missing", func(t *testing.T, root string) {
		require.NoError(t, os.Rename(at(root, "case.php"), at(root, "Case.php")))
	}),
	file("a file that others may read", "mode600 has the mode 644, not 600",
		func(t *testing.T, root string) { require.NoError(t, os.Chmod(at(root, "mode600"), 0o644)) }),
	file("a file that all may write", "mode777 has the mode 777, not 644",
		func(t *testing.T, root string) { require.NoError(t, os.Chmod(at(root, "mode777"), 0o777)) }),
	file("a file that nobody may read", "mode000 has the mode 000, not 644",
		func(t *testing.T, root string) { require.NoError(t, os.Chmod(at(root, "mode000"), 0)) }),
	file("a file that may not be run", "script.sh has the mode 644, not 755",
		func(t *testing.T, root string) { require.NoError(t, os.Chmod(at(root, "script.sh"), 0o644)) }),
	file("a folder that all may write", "open has the mode 777, not 755",
		func(t *testing.T, root string) { require.NoError(t, os.Chmod(at(root, "open"), 0o777)) }),
	file("an owner", "owned.php belongs to 33:33, not to",
		func(t *testing.T, root string) { require.NoError(t, os.Chown(at(root, "owned.php"), 33, 33)) }),
	file("a missing empty folder", "empty is missing, a folder",
		func(t *testing.T, root string) { require.NoError(t, os.Remove(at(root, "empty"))) }),
	file("a link in place of a file", "linked.php is a link to byte.php, not a file",
		instead("linked.php", func(n string) error { return os.Symlink("byte.php", n) })),
	file("a link out of the site", "out.php is no file any more: it leads out of the site, to /etc/hostname",
		instead("out.php", func(n string) error { return os.Symlink("/etc/hostname", n) })),
	file("a link that leads elsewhere", "link leads to cut.php, not to byte.php",
		instead("link", func(n string) error { return os.Symlink("cut.php", n) })),
	file("a file in place of a link", "unlinked is a file, not a link to byte.php",
		instead("unlinked", func(n string) error { return os.WriteFile(n, []byte("x"), 0o644) })),
	file("a folder in place of a file", "folder.php is missing",
		instead("folder.php", func(n string) error { return os.Mkdir(n, 0o755) })),
	file("a file in place of a folder", "filed is not on the origin",
		instead("filed", func(n string) error { return os.WriteFile(n, []byte("x"), 0o644) })),
	{kind: "the copy's own configuration", file: func(t *testing.T, root string) {
		f, err := os.OpenFile(filepath.Join(root, "wp-config.php"), os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString("\n// mine\n")
		require.NoError(t, err)
		f.Close()
	}, check: "files", says: "wp-config.php is different"},
}

// ownFiles makes what file injuries change, on the origin.
func ownFiles(t *testing.T, root string) {
	require.NoError(t, os.MkdirAll(at(root, "open"), 0o755))
	require.NoError(t, os.Chmod(at(root, "open"), 0o755))
	require.NoError(t, os.MkdirAll(at(root, "empty"), 0o755))
	require.NoError(t, os.MkdirAll(at(root, "filed"), 0o755))
	for _, n := range []string{
		"byte", "cut", "emptied", "behind", "forged", "missing", "renamed", "case", "owned", "linked", "out", "folder",
		"open/in", "filed/in",
	} {
		write(n+".php", "<?php echo 1;")(t, root)
	}
	for name, mode := range map[string]os.FileMode{"mode600": 0o600, "mode777": 0o644, "mode000": 0o644,
		"script.sh": 0o755} {
		write(name, "x")(t, root)
		require.NoError(t, os.Chmod(at(root, name), mode))
	}
	require.NoError(t, os.WriteFile(at(root, "large.bin"), make([]byte, 3<<20), 0o644))
	require.NoError(t, os.Symlink("byte.php", at(root, "link")))
	require.NoError(t, os.Symlink("byte.php", at(root, "unlinked")))
	old := time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)
	require.NoError(t, filepath.Walk(at(root, ""), func(p string, fi os.FileInfo, err error) error {
		if err == nil && fi.Mode().IsRegular() {
			err = os.Chtimes(p, old, old)
		}
		return err
	}))
}
