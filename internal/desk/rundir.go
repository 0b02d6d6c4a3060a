package desk

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// longestRun is how long the path of the folder of sockets may be: theirs are at
// most 107 bytes long (unix(7)), and up to 45 of these come after it.
const longestRun = 62

// runFile names, in a home, the folder of its sockets.
const runFile = "run-folder"

// RunDir is the folder of the sockets and configurations of the programs that
// serve the copies of a home. Its path is short, as those of sockets must be:
// where the home's own is not, it is a folder with a name that nobody can guess.
func RunDir(home string) string {
	if b, err := os.ReadFile(filepath.Join(home, runFile)); err == nil &&
		filepath.IsAbs(strings.TrimSpace(string(b))) {
		return strings.TrimSpace(string(b))
	}
	sum := sha256.Sum256([]byte(home)) // as homes of older versions have it
	return filepath.Join(os.TempDir(), fmt.Sprintf("alibi-%d-%s", os.Getuid(), hex.EncodeToString(sum[:4])))
}

// chooseRunDir chooses the folder of a new home; one that is in use keeps its own,
// since its copies name sockets in it.
func chooseRunDir(home string) error {
	file := filepath.Join(home, runFile)
	for _, f := range []string{file, filepath.Join(home, "record.db")} {
		if _, err := os.Lstat(f); err == nil {
			return nil
		}
	}
	dir := filepath.Join(home, "run")
	if len(dir) > longestRun {
		var b [9]byte
		_, _ = rand.Read(b[:])
		dir = filepath.Join(os.TempDir(), "alibi-"+hex.EncodeToString(b[:]))
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil // another process of ours was first
	}
	if err == nil {
		_, err = f.WriteString(dir + "\n")
		err = errors.Join(err, f.Close())
	}
	return err
}

// EnsureRunDir makes the folder of a home's sockets, or sees that it is ours alone:
// programs in it run as we do.
func EnsureRunDir(home string) error { return ownFolder(RunDir(home)) }

// ownFolder makes a folder that only we may enter, and refuses one that is
// another's, that others may write to, or that is a link.
func ownFolder(dir string) error {
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("making room for sockets: %w", err)
	}
	return checkOwn(dir, 0o077, "that only we may enter")
}

// checkOwn refuses a folder that is not ours, or that has one of some bits of its
// mode.
func checkOwn(dir string, bits uint32, that string) error {
	fd, err := unix.Open(dir, unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_RDONLY, 0)
	if err != nil {
		return fmt.Errorf("%s is no folder of ours %s (%w): somebody else may have made it; look who, and remove it",
			dir, that, err)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return err
	}
	if int(st.Uid) != os.Getuid() || st.Mode&bits != 0 {
		return fmt.Errorf(
			"%s is no folder of ours %s: it belongs to account %d and has mode %o; look who made it, and remove it "+
				"or correct its mode",
			dir,
			that,
			st.Uid,
			st.Mode&0o7777,
		)
	}
	return nil
}
