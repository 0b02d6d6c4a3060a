package local

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// CopyFile copies a file of this machine, with its time. A file that is there is never written
// to, since it may be a hard link to another: fs.ErrExist. It gives the size in bytes.
func CopyFile(from, to string, perm fs.FileMode) (n int64, err error) {
	in, err := os.Open(from)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	fi, err := in.Stat()
	if err != nil {
		return 0, err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, perm)
	if err != nil {
		return 0, err
	}
	n, err = io.Copy(out, in)
	return n, errors.Join(err, out.Close(), os.Chtimes(to, fi.ModTime(), fi.ModTime()))
}

// Size adds up the files below a folder, in bytes; what is gone meanwhile has no size.
func Size(dir string) (n int64) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if fi, err := d.Info(); err == nil {
				n += fi.Size()
			}
		}
		return nil
	})
	return n
}
