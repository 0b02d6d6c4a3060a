package wall

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"

	"alibi/internal/host"
	"alibi/internal/site"
)

// Once gives a program that is run once in a world without any way out, in which it sees dir and may write there;
// it is started as it is where no wall can be had. Under root dir becomes of an account of its own.
func Once(ctx context.Context, dir string, bounds site.Bounds, program string, args ...string) (*exec.Cmd, error) {
	if Missing() != "" {
		return exec.CommandContext(ctx, program, args...), nil
	}
	program, err := exec.LookPath(program)
	if err != nil {
		return nil, err
	}
	w := World{Run: dir, Write: []string{dir}, Bounds: bounds, Owner: Account(dir), Read: []string{Prefix(program)}}
	if real, err := filepath.EvalSymlinks(program); err == nil {
		w.Read = append(w.Read, Prefix(real))
	}
	l, err := w.Prepare(nil, program, args...)
	if err != nil {
		return nil, err
	}
	if w.Owner != nil {
		if err := Give(dir, *w.Owner); err != nil {
			return nil, err
		}
	}
	return exec.CommandContext(ctx, l.Program, l.Args...), nil
}

// Give gives a folder and all that is in it to an account. What is not there any more is passed by. The folder may be
// in use by code that means harm: nothing outside of it is reached, whatever is put in the way meanwhile.
func Give(dir string, to host.Owner) error {
	root, err := os.OpenRoot(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(root.FS(), ".", func(name string, _ fs.DirEntry, err error) error {
		var fi fs.FileInfo
		if err == nil {
			fi, err = root.Lstat(name)
		}
		if err == nil {
			if is := host.OwnerOf(fi); is == nil || *is != to {
				err = root.Lchown(name, to.User, to.Group)
			}
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}
