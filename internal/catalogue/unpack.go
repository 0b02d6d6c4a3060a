package catalogue

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"alibi/internal/site"
)

// unpack writes an archive's files below a folder: a zip file, or a tar file
// that may be compressed with gzip. It refuses names that lead elsewhere, links
// and devices, and more than is taken.
func unpack(file, into string, lim Limits) error {
	f, err := os.Open(file)
	if err != nil {
		return fmt.Errorf("the archive can't be read: %w", err)
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	if fi.IsDir() {
		return errors.New("it is a folder; name an archive, or a git repository with #BRANCH")
	}
	if fi.Size() > lim.Bytes {
		return fmt.Errorf("%w: %s, and at most %s are", ErrTooBig, site.Size(fi.Size()), site.Size(lim.Bytes))
	}
	if err := os.MkdirAll(into, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	x := &unpacking{root: root, lim: lim}
	head := make([]byte, 4)
	n, _ := io.ReadFull(f, head)
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	switch {
	case bytes.HasPrefix(head[:n], []byte("PK")):
		err = x.zip(f, fi.Size())
	case bytes.HasPrefix(head[:n], []byte{0x1f, 0x8b}):
		zr, zerr := gzip.NewReader(bufio.NewReader(f))
		if zerr != nil {
			return fmt.Errorf("%w: it is damaged: %w", ErrHostile, zerr)
		}
		err = x.tar(zr)
	default:
		err = x.tar(f)
	}
	if err == nil && x.files == 0 {
		err = fmt.Errorf("%w: it is no zip or tar archive, or an empty one", ErrHostile)
	}
	return err
}

// unpacking writes below a root and counts.
type unpacking struct {
	root  *os.Root
	lim   Limits
	files int   // that were written
	seen  int   // entries, with those that are passed over
	bytes int64 // written or passed over
}

// count bounds what an archive holds, whether it is written or not.
func (x *unpacking) count(bytes int64) error {
	if x.seen++; x.seen > x.lim.Files {
		return fmt.Errorf("%w: more than %s files", ErrTooBig, site.Number(x.lim.Files))
	}
	if x.bytes += bytes; x.bytes > x.lim.Unpacked || x.bytes < 0 {
		return fmt.Errorf("%w: unpacked it is more than %s", ErrTooBig, site.Size(x.lim.Unpacked))
	}
	return nil
}

// name checks a path in an archive.
func (x *unpacking) name(s string) (string, error) {
	if strings.ContainsAny(s, "\\\x00") || strings.HasPrefix(s, "/") ||
		!fs.ValidPath(path.Clean(strings.TrimSuffix(s, "/"))) {
		return "", fmt.Errorf("%w: the archive holds a file that would stand elsewhere: %q", ErrHostile, s)
	}
	for part := range strings.SplitSeq(s, "/") {
		if part == ".." {
			return "", fmt.Errorf("%w: the archive holds a file that would stand elsewhere: %q", ErrHostile, s)
		}
	}
	return path.Clean(s), nil
}

// hidden are what archives carry that is nobody's.
func hidden(name string) bool {
	return strings.HasPrefix(name, "__MACOSX/") || path.Base(name) == ".DS_Store" || strings.HasPrefix(name, ".git/") ||
		strings.Contains(name, "/.git/")
}

func (x *unpacking) put(name string, mtime time.Time, r io.Reader) error {
	x.files++
	if dir := path.Dir(name); dir != "." {
		if err := x.root.MkdirAll(dir, 0o755); err != nil {
			return fmt.Errorf("%w: %s can't be unpacked: %w", ErrHostile, name, err)
		}
	}
	f, err := x.root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("%w: %s can't be unpacked: %w", ErrHostile, name, err)
	}
	n, err := io.Copy(f, io.LimitReader(r, x.lim.Unpacked-x.bytes+1))
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return fmt.Errorf("%w: %s is damaged in it: %w", ErrHostile, name, err)
	}
	if err := x.count(n); err != nil {
		return err
	}
	if mtime.Year() < 1980 {
		mtime = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	mtime = mtime.Truncate(time.Second)
	return x.root.Chtimes(name, mtime, mtime)
}

func (x *unpacking) zip(f io.ReaderAt, size int64) error {
	zr, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("%w: it is damaged: %w", ErrHostile, err)
	}
	for _, e := range zr.File {
		name, err := x.name(e.Name)
		if err != nil {
			return err
		}
		switch mode := e.Mode(); {
		case strings.HasSuffix(e.Name, "/") || hidden(name):
			if err := x.count(0); err != nil {
				return err
			}
		case !mode.IsRegular():
			return fmt.Errorf("%w: the archive holds a link or a device: %q", ErrHostile, e.Name)
		default:
			r, err := e.Open()
			if err != nil {
				return fmt.Errorf("%w: %s is damaged in it: %w", ErrHostile, name, err)
			}
			err = x.put(name, e.Modified, r)
			r.Close()
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (x *unpacking) tar(r io.Reader) error {
	tr := tar.NewReader(r)
	for {
		h, err := tr.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: it is no zip or tar archive, or damaged: %w", ErrHostile, err)
		}
		name, err := x.name(h.Name)
		if err != nil {
			return err
		}
		switch h.Typeflag {
		case tar.TypeDir, tar.TypeXGlobalHeader:
			err = x.count(0)
		case tar.TypeReg:
			if hidden(name) {
				err = x.count(h.Size)
			} else {
				err = x.put(name, h.ModTime, tr)
			}
		default:
			err = fmt.Errorf("%w: the archive holds a link or a device: %q", ErrHostile, h.Name)
		}
		if err != nil {
			return err
		}
	}
}
