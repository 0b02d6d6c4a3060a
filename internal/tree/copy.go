package tree

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
)

// Hash is a BLAKE3 digest; the zero value means "not computed".
type Hash [32]byte

// MarshalText writes the digest in hexadecimal.
func (h Hash) MarshalText() ([]byte, error) { return []byte(hex.EncodeToString(h[:])), nil }

// UnmarshalText reads what MarshalText wrote.
func (h *Hash) UnmarshalText(b []byte) error {
	if len(b) != hex.EncodedLen(len(h)) {
		return fmt.Errorf("a digest has %d digits, not %d", hex.EncodedLen(len(h)), len(b))
	}
	_, err := hex.Decode(h[:], b)
	return err
}

// Progress is told of bytes and files as they are finished; it is called from
// several goroutines.
type Progress func(bytes int64, files int)

// Copy brings the entries from src to dst and gives them back with the digest
// of the bytes that were written and the size and time that the file then had:
// one that changes while it is read is read again. A file that is there
// already with the same size and time is kept, so that a copy that was broken
// off goes on. Links are copied as links. Files that vanished in the meantime
// or may not be read are in the problems.
func Copy(ctx context.Context, src host.Tree, dst host.Root, entries []Entry, progress Progress) ([]Entry, []Problem,
	error) {
	return bring(ctx, src, dst, entries, progress, pour)
}

// Duplicate is Copy without digests of what a system copies by itself: these files are not read.
func Duplicate(ctx context.Context, src host.Tree, dst host.Root, entries []Entry, progress Progress) ([]Entry,
	[]Problem, error) {
	return bring(ctx, src, dst, entries, progress, duplicate)
}

// pours copies the bytes of one file and sets its digest, or not; it tells how the file was when it had been read.
type pours func(ctx context.Context, src host.Tree, dst host.Root, e *Entry, tell Progress) (int64, fs.FileInfo, error)

func bring(ctx context.Context, src host.Tree, dst host.Root, entries []Entry, progress Progress, pour pours) ([]Entry,
	[]Problem, error) {
	out := make([]Entry, len(entries))
	problems := make([]*Problem, len(entries))
	for i, e := range entries {
		if e.Mode.IsDir() {
			if err := host.MkdirAll(dst, e.Path, dirPerm(e.Mode)); err != nil {
				return nil, nil, fmt.Errorf("making folder %s: %w", e.Path, err)
			}
			out[i] = e
		}
	}
	if err := folderModes(dst, entries); err != nil {
		return nil, nil, err
	}
	have, err := listed(ctx, src, dst)
	if err != nil {
		return nil, nil, err
	}
	streamed, err := byStream(ctx, src, dst, entries, have, progress)
	if err != nil {
		return nil, nil, err
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(host.AtOnce(readers, src, dst))
	order, err := arranged(ctx, src, entries)
	if err != nil {
		return nil, nil, err
	}
	for _, i := range order {
		e := entries[i]
		if e.Mode.IsDir() {
			continue
		}
		if got, ok := streamed[e.Path]; ok {
			out[i] = got
			continue
		}
		_, is := have[e.Path]
		missing := have != nil && streamed == nil && !is
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := host.Patience(ctx, src, dst); err != nil {
				return err
			}
			got, err := one(ctx, src, dst, e, missing, progress, pour)
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
				if _, there := dst.Lstat(path.Dir(e.Path)); there == nil {
					problems[i] = &Problem{e.Path, "can't be read: " + reason(err), kind(err)}
					return nil
				}
			}
			if err != nil {
				return fmt.Errorf("copying %s: %w", e.Path, err)
			}
			out[i] = got
			progress(0, 1)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	var bad []Problem
	kept := out[:0]
	for i := range out {
		if problems[i] != nil {
			bad = append(bad, *problems[i])
		} else {
			kept = append(kept, out[i])
		}
	}
	return kept, bad, nil
}

// arranged gives the entries' indexes in the order in which they are read best.
func arranged(ctx context.Context, src host.Tree, entries []Entry) ([]int, error) {
	out := make([]int, len(entries))
	names := make([]string, len(entries))
	for i, e := range entries {
		out[i], names[i] = i, e.Path
	}
	a, is := src.(host.Arranged)
	if !is {
		return out, nil
	}
	at, err := a.Arrange(ctx, names)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(out, func(i, j int) int { return cmp.Compare(at[i], at[j]) })
	return out, nil
}

// folderModes gives folders the modes that our umask took from them when they were made. Far away only
// those are looked at of which most umasks take something, unless ours takes more.
func folderModes(dst host.Root, entries []Entry) error {
	_, usual := streams[host.Taker](dst)
	for _, e := range entries {
		if !e.Mode.IsDir() || usual && e.Mode.Perm()&0o022 == 0 && e.Path != entries[0].Path {
			continue
		}
		fi, err := dst.Lstat(e.Path)
		if err != nil {
			return fmt.Errorf("looking at folder %s: %w", e.Path, err)
		}
		if fi.Mode().Perm() == dirPerm(e.Mode) {
			continue
		}
		usual = usual && dirPerm(e.Mode)&^fi.Mode().Perm()&^0o022 == 0
		if err := dst.Chmod(e.Path, dirPerm(e.Mode)); err != nil {
			return fmt.Errorf("setting the mode of folder %s: %w", e.Path, err)
		}
	}
	return nil
}

// byStream copies what can be and is worth copying as streams: files that are
// not at the other end already.
func byStream(ctx context.Context, src host.Tree, dst host.Root, entries []Entry, have map[string]bool,
	progress Progress) (map[string]Entry, error) {
	_, from := streams[host.Sender](src)
	_, to := streams[host.Taker](dst)
	if !from && !to {
		return nil, nil
	}
	var list []Entry
	for _, e := range entries {
		if e.Regular() && !have[e.Path] {
			list = append(list, e)
		}
	}
	if len(list) < worthwhile {
		return nil, nil
	}
	if got, ok, err := aside(ctx, src, dst, list, progress); ok || err != nil {
		return got, err
	}
	return stream(ctx, src, dst, list, progress)
}

func reason(err error) string {
	if errors.Is(err, fs.ErrPermission) {
		return "no permission"
	}
	return "it is gone"
}

func kind(err error) string {
	if errors.Is(err, fs.ErrPermission) {
		return "unreadable"
	}
	return "gone"
}

// OnCopy is the mode that an entry of an origin gets on a copy.
func OnCopy(m fs.FileMode) fs.FileMode {
	if m.IsDir() {
		return dirPerm(m)
	}
	return m.Perm()
}

// dirPerm lets us always work in folders of our own copies.
func dirPerm(m fs.FileMode) fs.FileMode { return m.Perm() | 0o700 }

// listed tells of each path that is at the other end whether it is a file, where files come by a stream, or asking for
// each takes long; nil elsewhere.
func listed(ctx context.Context, src host.Tree, dst host.Root) (map[string]bool, error) {
	_, from := streams[host.Sender](src)
	_, to := streams[host.Taker](dst)
	if !from && !to && !oneByOne(dst) {
		return nil, nil
	}
	there, err := Scan(ctx, dst, Filter{})
	if err != nil {
		return nil, err
	}
	have := make(map[string]bool, len(there.Entries))
	for _, e := range there.Entries {
		have[e.Path] = !e.Mode.IsDir()
	}
	return have, nil
}

// one brings one entry, which may be known to be missing there.
func one(
	ctx context.Context, src host.Tree, dst host.Root, e Entry, missing bool, progress Progress, pour pours,
) (Entry, error) {
	if e.Link != "" {
		if have, err := dst.Readlink(e.Path); err == nil && have == RelativeLink(src.Path(), e.Path, e.Link) {
			return e, nil
		}
		_ = dst.Remove(e.Path)
		return e, dst.Symlink(RelativeLink(src.Path(), e.Path, e.Link), e.Path)
	}
	if missing {
		return anew(ctx, src, dst, e, progress, pour)
	}
	if fi, err := dst.Lstat(e.Path); err == nil {
		if e.Same(Entry{}.Seen(fi)) {
			h, err := HashFile(ctx, dst, e.Path)
			e.Hash = h
			progress(e.Size, 0)
			return e, err
		}
		if fi.IsDir() {
			if err := dst.RemoveAll(e.Path); err != nil {
				return e, err
			}
		}
	}
	return anew(ctx, src, dst, e, progress, pour)
}

// anew reads a file, again if it changes meanwhile.
func anew(ctx context.Context, src host.Tree, dst host.Root, e Entry, progress Progress, pour pours) (Entry, error) {
	for try := 0; ; try++ {
		before := e
		n, fi, err := pour(ctx, src, dst, &e, progress)
		if err != nil {
			return e, err
		}
		now := Entry{Path: e.Path, Hash: e.Hash}.Seen(fi)
		if now.Untouched(before) && n == now.Size || try == 3 {
			return e, nil
		}
		progress(-n, 0)
		e = now
	}
}

// Relative gives an entry of a tree with its link as it is when it is brought: by a relative path, whatever the folder
// is called that it was in.
func (e Entry) Relative(root host.Tree) Entry {
	if e.Link != "" {
		e.Link = RelativeLink(root.Path(), e.Path, e.Link)
	}
	return e
}

// RelativeLink is the target of a link that stays inside root, written so that
// it holds wherever the tree is moved. Relative ones stay as they are.
func RelativeLink(root, name, target string) string {
	rest, ok := strings.CutPrefix(target, strings.TrimRight(root, "/"))
	if !ok || !strings.HasPrefix(target, "/") {
		return target
	}
	return path.Join(strings.Repeat("../", strings.Count(path.Clean(name), "/"))+".", strings.TrimPrefix(rest, "/"))
}

// duplicate is a pours that sets no digest where a system copies the bytes.
func duplicate(ctx context.Context, src host.Tree, dst host.Root, e *Entry, tell Progress) (int64, fs.FileInfo, error) {
	d, can := dst.(host.Duplicator)
	if !can {
		return pour(ctx, src, dst, e, tell)
	}
	f, err := src.Open(e.Path)
	if err != nil {
		return 0, nil, err
	}
	defer f.Close()
	n, err := d.Duplicate(e.Path, e.Mode.Perm(), e.MTime, f, func(bytes int64) error {
		tell(bytes, 0)
		return ctx.Err()
	})
	if errors.Is(err, errors.ErrUnsupported) {
		return pour(ctx, src, dst, e, tell)
	}
	if err != nil {
		return n, nil, err
	}
	fi, err := f.Stat()
	return n, fi, err
}

// pour is a pours that reads the file.
func pour(ctx context.Context, src host.Tree, dst host.Root, e *Entry, progress Progress) (int64, fs.FileInfo, error) {
	f, err := src.Open(e.Path)
	if err != nil {
		return 0, nil, err
	}
	defer f.Close()
	h := blake3.New()
	r := io.TeeReader(&meter{ctx: ctx, r: f, tell: progress}, h)
	n, err := write(dst, *e, r)
	h.Sum(e.Hash[:0])
	if err != nil {
		return n, nil, err
	}
	fi, err := f.Stat()
	return n, fi, err
}

// write writes a file of a tree that nobody looks at yet.
func write(dst host.Root, e Entry, r io.Reader) (int64, error) {
	if w, ok := dst.(host.Writer); ok {
		return w.Write(e.Path, e.Mode.Perm(), e.MTime, r)
	}
	return host.Put(dst, e.Path, e.Mode.Perm(), e.MTime, r)
}

// meter tells of bytes as they pass and stops when the context ends.
type meter struct {
	ctx  context.Context
	r    io.Reader
	tell Progress
}

func (m *meter) Read(p []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	if len(p) > 1<<18 {
		p = p[:1<<18]
	}
	n, err := m.r.Read(p)
	if n > 0 && m.tell != nil {
		m.tell(int64(n), 0)
	}
	return n, err
}

// Alike tells whether two entries have the same in them, or are both not there.
func Alike(a, b Entry) bool {
	return (a.Path == "") == (b.Path == "") && a.Mode.Type() == b.Mode.Type() && a.Link == b.Link && a.Hash == b.Hash
}

// Sum digests what is in a file.
func Sum(text []byte) Hash { return blake3.Sum256(text) }

// HashFile digests one file.
func HashFile(ctx context.Context, root host.Tree, name string) (Hash, error) {
	var out Hash
	f, err := root.Open(name)
	if err != nil {
		return out, err
	}
	defer f.Close()
	h := blake3.New()
	if _, err = io.Copy(h, &meter{ctx: ctx, r: f}); err != nil {
		return out, err
	}
	h.Sum(out[:0])
	return out, nil
}

// Difference is a path that is not the same in two trees. A side without the
// path has a zero Entry.
type Difference struct{ A, B Entry }

// Path is the path that differs.
func (d Difference) Path() string {
	if d.A.Path != "" {
		return d.A.Path
	}
	return d.B.Path
}

// Compare lists the paths in which two trees differ, folders left aside. Files
// are equal if their digests are, where both have one, else if they look alike.
func Compare(a, b []Entry) []Difference {
	var out []Difference
	there := make(map[string]Entry, len(b))
	for _, e := range b {
		if !e.Mode.IsDir() {
			there[e.Path] = e
		}
	}
	for _, e := range a {
		if e.Mode.IsDir() {
			continue
		}
		o, ok := there[e.Path]
		delete(there, e.Path)
		switch {
		case !ok:
			out = append(out, Difference{A: e})
		case !equal(e, o):
			out = append(out, Difference{e, o})
		}
	}
	for _, e := range b {
		if _, left := there[e.Path]; left {
			out = append(out, Difference{B: e})
		}
	}
	return out
}

func equal(a, b Entry) bool {
	if a.Hash != (Hash{}) && b.Hash != (Hash{}) {
		return a.Hash == b.Hash && a.Mode.Type() == b.Mode.Type()
	}
	return a.Same(b)
}
