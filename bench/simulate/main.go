// Command simulate copies trees that are far too large for this machine: files of many sizes whose bytes are made up
// as they are read, to a place that forgets them. It prints how long that takes, and the process's largest memory, for
// each size, so that it can be seen whether copying is linear in bytes and flat in memory.
//
//	go run ./bench/simulate [-gb 50,100,200] [-files 2000]
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"strconv"
	"strings"
	"syscall"
	"time"

	"alibi/internal/host"
	"alibi/internal/tree"
)

func main() {
	sizes := flag.String("gb", "50,100,200", "how many GB each tree has")
	files := flag.Int("files", 2000, "files for each GB")
	one := flag.Int("one", 0, "copy one tree of so many GB in this process")
	flag.Parse()
	if *one > 0 {
		if err := measure(*one, *files); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	for _, s := range strings.Split(*sizes, ",") { // each in a process of its own, for its memory
		p, err := os.StartProcess(os.Args[0], []string{os.Args[0], "-one", s, "-files", strconv.Itoa(*files)},
			&os.ProcAttr{Files: []*os.File{nil, os.Stdout, os.Stderr}})
		if err == nil {
			_, err = p.Wait()
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func measure(gb, perGB int) error {
	src := &made{bytes: make([]byte, 1<<20)}
	for i := range src.bytes {
		src.bytes[i] = byte(rand.Uint32())
	}
	entries := src.list(int64(gb)<<30, gb*perGB)
	began := time.Now()
	got, problems, err := tree.Copy(context.Background(), src, forgets{src}, entries, func(int64, int) {})
	if err != nil || len(problems) > 0 || len(got) != len(entries) {
		return fmt.Errorf("%d of %d files, %d problems: %w", len(got), len(entries), len(problems), err)
	}
	took := time.Since(began)
	var use syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &use); err != nil {
		return err
	}
	fmt.Printf("%4d GB in %7d files: %6.1f s, %.2f GB/s, %d MiB\n", gb, len(entries), took.Seconds(),
		float64(gb)/took.Seconds(), use.Maxrss>>10)
	return nil
}

// made is a tree whose bytes are made up as they are read.
type made struct {
	bytes []byte
	sizes map[string]int64
}

// list makes files up: most are small, and few have most of the bytes, as on sites.
func (m *made) list(total int64, n int) []tree.Entry {
	weights := make([]float64, n)
	sum := 0.0
	for i := range weights {
		weights[i] = 1 / (0.001 + rand.Float64()) // from 1 to 1000
		sum += weights[i]
	}
	m.sizes = make(map[string]int64, n)
	out := make([]tree.Entry, n)
	for i := range out {
		name := fmt.Sprintf("file-%07d.jpg", i)
		m.sizes[name] = int64(float64(total) * weights[i] / sum)
		out[i] = tree.Entry{Path: name, Mode: 0o644, Size: m.sizes[name], MTime: time.Unix(1_700_000_000, 0)}
	}
	return out
}

func (m *made) Path() string                          { return "/made" }
func (m *made) ReadDir(string) ([]fs.FileInfo, error) { return nil, nil }
func (m *made) Readlink(string) (string, error)       { return "", fs.ErrInvalid }
func (m *made) Close() error                          { return nil }
func (m *made) Lstat(name string) (fs.FileInfo, error) {
	return info{path.Base(name), m.sizes[name]}, nil
}
func (m *made) Open(name string) (host.File, error) {
	return &file{m: m, name: name, left: m.sizes[name]}, nil
}

type file struct {
	m    *made
	name string
	left int64
}

func (f *file) Read(p []byte) (int, error) {
	if f.left == 0 {
		return 0, io.EOF
	}
	n := copy(p[:min(int64(len(p)), f.left)], f.m.bytes)
	f.left -= int64(n)
	return n, nil
}

func (f *file) ReadAt([]byte, int64) (int, error) { return 0, errors.ErrUnsupported }
func (f *file) Close() error                      { return nil }
func (f *file) Stat() (fs.FileInfo, error)        { return info{f.name, f.m.sizes[f.name]}, nil }

type info struct {
	name string
	size int64
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) Mode() fs.FileMode  { return 0o644 }
func (i info) ModTime() time.Time { return time.Unix(1_700_000_000, 0) }
func (i info) IsDir() bool        { return false }
func (i info) Sys() any           { return nil }

// forgets is a place that forgets what it is given.
type forgets struct{ *made }

func (forgets) Lstat(string) (fs.FileInfo, error)                  { return nil, fs.ErrNotExist }
func (forgets) Create(string, fs.FileMode) (io.WriteCloser, error) { return nil, errors.ErrUnsupported }
func (forgets) Mkdir(string, fs.FileMode) error                    { return nil }
func (forgets) Symlink(string, string) error                       { return nil }
func (forgets) Rename(string, string) error                        { return nil }
func (forgets) Remove(string) error                                { return nil }
func (forgets) RemoveAll(string) error                             { return nil }
func (forgets) Chmod(string, fs.FileMode) error                    { return nil }
func (forgets) Chtimes(string, time.Time) error                    { return nil }
func (forgets) Write(_ string, _ fs.FileMode, _ time.Time, r io.Reader) (int64, error) {
	return io.Copy(io.Discard, r)
}
