package tree

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"syscall"

	"alibi/internal/host"
)

// Only shows of a tree some paths alone, with the folders above them. It looks for these by their names, so that
// listing it takes as long as there are paths, whatever else is in the tree.
func Only(root host.Tree, paths []string) host.Tree {
	o := only{Tree: root, in: map[string][]string{}}
	for _, p := range paths {
		for dir := path.Dir(p); ; p, dir = dir, path.Dir(dir) {
			name := path.Base(p)
			if slices.Contains(o.in[dir], name) {
				break
			}
			o.in[dir] = append(o.in[dir], name)
			if dir == "." {
				break
			}
		}
	}
	for _, names := range o.in {
		slices.Sort(names)
	}
	return o
}

type only struct {
	host.Tree
	in map[string][]string // names by folder
}

func (o only) ReadDir(dir string) (out []fs.FileInfo, err error) {
	for _, name := range o.in[path.Clean(dir)] {
		fi, err := o.Lstat(path.Join(dir, name))
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, fi)
	}
	return out, nil
}
