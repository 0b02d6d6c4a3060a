package tree

import (
	"io/fs"
	"path"

	"alibi/internal/host"
)

// Below shows a folder of a tree as a tree of its own. Closing it closes nothing.
func Below(root host.Tree, dir string) host.Tree { return below{root, dir} }

type below struct {
	root host.Tree
	dir  string
}

func (b below) Path() string { return path.Join(b.root.Path(), b.dir) }

func (b below) Lstat(name string) (fs.FileInfo, error) { return b.root.Lstat(path.Join(b.dir, name)) }

func (b below) ReadDir(name string) ([]fs.FileInfo, error) {
	return b.root.ReadDir(path.Join(b.dir, name))
}

func (b below) Open(name string) (host.File, error) { return b.root.Open(path.Join(b.dir, name)) }

func (b below) Readlink(name string) (string, error) { return b.root.Readlink(path.Join(b.dir, name)) }

func (b below) Close() error { return nil }
