// Package host is how Alibi reaches a machine where sites live: its files,
// and its commands where it allows them.
//
// A Tree is a directory that nothing can lead out of: names are slash paths
// below it, and a name that would escape (.., an absolute name, a link that
// points outside) is refused with ErrEscapes. What opens a Tree can only read;
// a Root is a Tree that can be written to. Each implementation passes hosttest.Run.
package host

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"regexp"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// Errors that callers decide on. They are wrapped with the host and the path.
var (
	ErrEscapes    = errors.New("the name leads out of the site's folder")
	ErrNoCommands = errors.New("the host allows no commands")
	ErrNoForward  = errors.New("the host forwards no connections")
	ErrNoConnect  = errors.New("the host does not connect to it")
	ErrNoAnswer   = errors.New("the host does not answer")
	ErrAuth       = errors.New("the host refuses the sign-in")
	ErrHostKey    = errors.New("the host's key was not accepted")
)

// Host is a machine.
type Host interface {
	Name() string
	// Open gives the directory dir, an absolute path, to be read.
	Open(ctx context.Context, dir string) (Tree, error)
	// Write gives the directory dir, an absolute path, to be written to.
	Write(ctx context.Context, dir string) (Root, error)
	// Make creates the directory dir and those above it, and gives it to be written to.
	Make(ctx context.Context, dir string) (Root, error)
	// Free is the room on the disk that holds dir, in bytes; 0 where it can't be known.
	Free(ctx context.Context, dir string) (int64, error)
	// Command runs a program with its arguments, without a shell's interpretation
	// of them, and gives its standard output. ErrNoCommands where that is not allowed.
	Command(ctx context.Context, name string, args ...string) ([]byte, error)
	// Pipe runs a program like Command, with in as its standard input and out as
	// its output, until it ends or ctx does.
	Pipe(ctx context.Context, in io.Reader, out io.Writer, name string, args ...string) error
	// Dial connects to an address as the machine sees it: "tcp" with host:port, or
	// "unix" with a path. ErrNoForward where that is not allowed.
	Dial(ctx context.Context, network, addr string) (net.Conn, error)
	Close() error
}

// File is a file that was opened to be read.
type File interface {
	io.ReadCloser
	io.ReaderAt
	Stat() (fs.FileInfo, error)
}

// Tree is a directory on a host that nothing leads out of, to be read. Its methods are
// those of os.Root and fail like them, with errors that wrap fs.ErrNotExist,
// fs.ErrPermission and so on. It is safe for concurrent use.
type Tree interface {
	Path() string // absolute, on the host
	Lstat(name string) (fs.FileInfo, error)
	ReadDir(name string) ([]fs.FileInfo, error) // sorted by name; links not followed
	Open(name string) (File, error)
	Readlink(name string) (string, error)
	Close() error
}

// Root is a Tree that can be written to.
type Root interface {
	Tree
	// Create makes a new file; an existing one, or a link, is fs.ErrExist.
	Create(name string, perm fs.FileMode) (io.WriteCloser, error)
	Mkdir(name string, perm fs.FileMode) error // fs.ErrExist if it is there
	Symlink(target, name string) error
	Rename(from, to string) error // replaces a file that is there
	Remove(name string) error     // a file, a link or an empty directory
	RemoveAll(name string) error
	Chmod(name string, perm fs.FileMode) error
	Chtimes(name string, mtime time.Time) error
}

// Streamer is a tree on a host that may run commands: many files pass as one stream, in
// the tar format of GNU, without a question for each.
type Streamer interface {
	// Streams tells whether the host really can.
	Streams() bool
}

// Sender is a tree whose files are sent as one stream.
type Sender interface {
	Streamer
	// SendTar writes the regular files with these names; those that are gone are
	// left out.
	SendTar(ctx context.Context, names []string, w io.Writer) error
}

// Taker is a root that takes files as one stream.
type Taker interface {
	Streamer
	// TakeTar unpacks a stream into folders that are there.
	TakeTar(ctx context.Context, r io.Reader) error
}

// Sibling is a root that can have its host copy files to it from another folder
// there, so that no byte passes through here.
type Sibling interface {
	Root
	// TakeFrom copies the regular files with these names to folders that are there,
	// and tells whether the host can. Files that are gone are left out.
	TakeFrom(ctx context.Context, src Tree, names []string) (bool, error)
}

// Compresser is a host that tells whether it pays to compress what goes to it
// and comes from it.
type Compresser interface {
	Compresses(ctx context.Context) bool
}

// Compresses tells whether it pays to compress what goes to a host.
func Compresses(ctx context.Context, h Host) bool {
	c, ok := h.(Compresser)
	return ok && c.Compresses(ctx)
}

// Addressed is a host on another machine.
type Addressed interface {
	Address() string // a name or a number, as connections to it are made
}

// Showing is a host of which only a site is known.
type Showing interface {
	// Shown is the folder that the site's address shows.
	Shown(ctx context.Context) (string, error)
}

// Start is the folder with which one begins to look at a host.
func Start(ctx context.Context, h Host) (string, error) {
	if s, is := h.(Showing); is {
		return s.Shown(ctx)
	}
	return "/", nil
}

// Writer is a root that writes files in one go, where nobody looks yet: a file
// that was broken off has another time than it should.
type Writer interface {
	Write(name string, perm fs.FileMode, mtime time.Time, r io.Reader) (int64, error)
}

// Duplicator is a root whose system copies what is in a file by itself, or has both files share it, where it can read
// the other one.
type Duplicator interface {
	// Duplicate writes a file as Writer does, and tells of bytes as they are there, until that fails. It fails with
	// errors.ErrUnsupported, and leaves nothing, where the system can't read the file.
	Duplicate(name string, perm fs.FileMode, mtime time.Time, from File, tell func(bytes int64) error) (int64, error)
}

// Bounded is a root on a host of which only so much may be used.
type Bounded interface {
	// AtOnce is how many files or streams may be under way, at most usual.
	AtOnce(usual int) int
	// Patience waits while the host is busier than it may be.
	Patience(ctx context.Context) error
}

// AtOnce is how many files or streams may be under way on all of the trees.
func AtOnce(usual int, trees ...Tree) int {
	for _, r := range trees {
		if b, ok := r.(Bounded); ok {
			usual = b.AtOnce(usual)
		}
	}
	return usual
}

// Patience waits while one of the trees' hosts is busier than it may be.
func Patience(ctx context.Context, trees ...Tree) error {
	for _, r := range trees {
		if b, ok := r.(Bounded); ok {
			if err := b.Patience(ctx); err != nil {
				return err
			}
		}
	}
	return nil
}

// Arranged is a tree whose files are read fastest in an order of its own.
type Arranged interface {
	// Arrange gives for each file a number by which they are read in order; files with the same one lie together.
	Arrange(ctx context.Context, names []string) ([]int64, error)
}

// Linker is a root in which a file can get a hard link.
type Linker interface {
	Link(from, to string) error
}

// Near is a tree on this machine, whose files other programs here open by its path.
type Near interface{ Near() bool }

// IsNear tells whether a tree is on this machine.
func IsNear(t Tree) bool {
	n, ok := t.(Near)
	return ok && n.Near()
}

// Clean checks a slash name below a root and gives its shortest form.
func Clean(name string) (string, error) {
	if name == "" || strings.HasPrefix(name, "/") || strings.ContainsRune(name, 0) {
		return "", fmt.Errorf("%q: %w", name, ErrEscapes)
	}
	c := path.Clean(name)
	if c == ".." || strings.HasPrefix(c, "../") {
		return "", fmt.Errorf("%q: %w", name, ErrEscapes)
	}
	return c, nil
}

// LinkInside tells whether a symbolic link at name with the given target stays
// below root, judged by its text.
func LinkInside(root, name, target string) bool {
	if strings.HasPrefix(target, "/") {
		return target == root || strings.HasPrefix(path.Clean(target)+"/", strings.TrimRight(root, "/")+"/")
	}
	c := path.Join(path.Dir(name), target)
	return c != ".." && !strings.HasPrefix(c, "../")
}

// TempPrefix begins the names of files that Alibi is still writing.
const TempPrefix = ".alibi-part-"

// RelayPrefix begins the names of files by which a site's own PHP reaches its database for us, see package relay. They
// are no part of the site.
const RelayPrefix = "alibi-relay-"

// Passing tells whether a name is that of something of ours that is there for a while.
func Passing(name string) bool {
	return strings.HasPrefix(name, TempPrefix) || strings.HasPrefix(name, RelayPrefix)
}

// TempName is a name beside name that nothing else has.
func TempName(name string) string {
	var b [6]byte
	_, _ = rand.Read(b[:])
	return path.Join(path.Dir(name), TempPrefix+hex.EncodeToString(b[:]))
}

// half is what TempName gives.
var half = regexp.MustCompile(`^` + regexp.QuoteMeta(TempPrefix) + `[0-9a-f]{12}$`)

// Half tells whether a name is that of a file of ours which is still written, or whose writing was broken off.
func Half(name string) bool { return half.MatchString(path.Base(name)) }

// Put writes what r gives to the file name, whole or not at all: it goes to a
// file beside it, which is renamed when it is complete. A zero mtime leaves
// the time alone.
func Put(root Root, name string, perm fs.FileMode, mtime time.Time, r io.Reader) (int64, error) {
	temp := TempName(name)
	f, err := root.Create(temp, perm|0o200)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(f, r)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil && perm&0o200 == 0 {
		err = root.Chmod(temp, perm)
	}
	if err == nil && !mtime.IsZero() {
		err = root.Chtimes(temp, mtime)
	}
	if err == nil {
		err = root.Rename(temp, name)
	}
	if err != nil {
		_ = root.Remove(temp)
	}
	return n, err
}

// ReadFile reads at most limit bytes of a file; a longer one is an error.
func ReadFile(root Tree, name string, limit int64) ([]byte, error) {
	f, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = fmt.Errorf("%s is larger than %d bytes", name, limit)
	}
	return b, err
}

// removers is how many files are removed at once: enough to hide a line's delay.
const removers = 8

// RemoveAll removes a file, a link, or a folder and all that is in it, one by one; what is gone is no error. It is for
// roots whose hosts have no word for that.
func RemoveAll(root Root, name string) error {
	fi, err := root.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if fi.IsDir() {
		list, err := root.ReadDir(name)
		if err != nil {
			return err
		}
		if err := removeIn(root, name, list); err != nil {
			return err
		}
	}
	return root.Remove(name)
}

// removeIn removes what is in a folder: files several at once, then folders.
func removeIn(root Root, dir string, list []fs.FileInfo) error {
	var g errgroup.Group
	g.SetLimit(AtOnce(removers, root))
	for _, e := range list {
		if e.IsDir() {
			continue
		}
		g.Go(func() error {
			if err := root.Remove(path.Join(dir, e.Name())); !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, e := range list {
		if !e.IsDir() {
			continue
		}
		if err := RemoveAll(root, path.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	return nil
}

// MkdirAll makes name and the directories above it.
func MkdirAll(root Root, name string, perm fs.FileMode) error {
	if name == "." {
		return nil
	}
	err := root.Mkdir(name, perm)
	if errors.Is(err, fs.ErrNotExist) {
		if err = MkdirAll(root, path.Dir(name), perm); err == nil {
			err = root.Mkdir(name, perm)
		}
	}
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return err
}
