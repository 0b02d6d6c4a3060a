// Package names points names of sites at this machine, for this machine only,
// by lines in its hosts file (hosts(5)). Lines of others are never touched.
package names

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// System is the hosts file of the machine.
const System = "/etc/hosts"

// ErrTaken is given if a line of somebody else's says something of a name.
var ErrTaken = errors.New("the hosts file says already where the name leads")

// ErrRefused is given if the file may not be written.
var ErrRefused = errors.New("the hosts file may not be written by this account")

// loopback are the addresses that names are pointed at.
var loopback = []netip.Addr{netip.MustParseAddr("127.0.0.1"), netip.MustParseAddr("::1")}

// comment ends the lines that are ours, before the mark.
const comment = "# alibi "

// File is a hosts file.
type File struct{ Path string }

// Add points names at this machine, in lines of their own that bear the mark.
// What the mark's lines said before is replaced.
func (f File) Add(mark string, list []string) error {
	return f.change(func(lines [][]byte) ([][]byte, error) {
		lines = without(lines, mark)
		for _, l := range lines {
			_, names := parse(l)
			for _, n := range list {
				if slices.Contains(names, strings.ToLower(n)) {
					return nil, fmt.Errorf("%w: %s stands in %s: %s", ErrTaken, n, f.Path, bytes.TrimSpace(l))
				}
			}
		}
		if n := len(lines); n > 0 && !bytes.HasSuffix(lines[n-1], []byte("\n")) {
			lines[n-1] = append(slices.Clone(lines[n-1]), '\n')
		}
		for _, a := range loopback {
			lines = append(lines, fmt.Appendf(nil, "%s %s %s%s\n", a, strings.Join(list, " "), comment, mark))
		}
		return lines, nil
	})
}

// Remove takes the mark's lines out. Without any it does nothing.
func (f File) Remove(mark string) error {
	return f.change(func(lines [][]byte) ([][]byte, error) { return without(lines, mark), nil })
}

// Lookup gives the addresses that the file has for a name.
func (f File) Lookup(name string) ([]netip.Addr, error) {
	lines, err := f.read()
	if err != nil {
		return nil, err
	}
	var out []netip.Addr
	for _, l := range lines {
		if a, names := parse(l); slices.Contains(names, strings.ToLower(name)) {
			out = append(out, a)
		}
	}
	return out, nil
}

// Marks gives the names that lines of ours point here, by their marks.
func (f File) Marks() (map[string][]string, error) {
	lines, err := f.read()
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, l := range lines {
		if m := markOf(l); m != "" {
			_, names := parse(l)
			for _, n := range names {
				if !slices.Contains(out[m], n) {
					out[m] = append(out[m], n)
				}
			}
		}
	}
	return out, nil
}

func (f File) read() ([][]byte, error) {
	b, err := os.ReadFile(f.Path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading the hosts file: %w", err)
	}
	return bytes.SplitAfter(b, []byte("\n")), nil
}

// parse reads a line: an address, names, and a comment from # on.
func parse(line []byte) (a netip.Addr, names []string) {
	text, _, _ := strings.Cut(string(line), "#")
	words := strings.Fields(text)
	if len(words) < 2 {
		return a, nil
	}
	a, err := netip.ParseAddr(words[0])
	if err != nil {
		return a, nil
	}
	for _, w := range words[1:] {
		names = append(names, strings.ToLower(w))
	}
	return a, names
}

// markOf gives the mark of a line of ours, "" of all others.
func markOf(line []byte) string {
	_, mark, ok := strings.Cut(string(line), comment)
	if a, _ := parse(line); !ok || !slices.Contains(loopback, a) {
		return ""
	}
	return strings.TrimSpace(mark)
}

func without(lines [][]byte, mark string) (out [][]byte) {
	for _, l := range lines {
		if len(l) > 0 && markOf(l) != mark {
			out = append(out, l)
		}
	}
	return out
}

// change writes the file anew, beside it and then in its place, so that nobody
// ever reads half of it. One process at a time does so.
func (f File) change(edit func([][]byte) ([][]byte, error)) error {
	dir, err := os.Open(filepath.Dir(f.Path))
	if err != nil {
		return fmt.Errorf("changing the hosts file: %w", err)
	}
	defer dir.Close()
	if err := unix.Flock(int(dir.Fd()), unix.LOCK_EX); err != nil {
		return fmt.Errorf("changing the hosts file: %w", err)
	}
	lines, err := f.read()
	if err != nil {
		return err
	}
	was := bytes.Join(lines, nil)
	next, err := edit(lines)
	if err != nil {
		return err
	}
	now := bytes.Join(next, nil)
	if bytes.Equal(was, now) {
		return nil
	}
	if err := f.replace(now); err != nil {
		if errors.Is(err, fs.ErrPermission) || errors.Is(err, unix.EROFS) {
			err = fmt.Errorf("%w: %w", ErrRefused, err)
		}
		return fmt.Errorf("changing %s: %w", f.Path, err)
	}
	return nil
}

func (f File) replace(text []byte) error {
	mode := fs.FileMode(0o644)
	var owner, group int
	fi, err := os.Stat(f.Path)
	if err == nil {
		mode = fi.Mode().Perm()
		if st, ok := fi.Sys().(*syscall.Stat_t); ok {
			owner, group = int(st.Uid), int(st.Gid)
		}
	}
	tmp, err := os.CreateTemp(filepath.Dir(f.Path), ".hosts-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(text)
	err = errors.Join(err, tmp.Chmod(mode), tmp.Sync())
	if os.Getuid() == 0 {
		err = errors.Join(err, tmp.Chown(owner, group))
	}
	if err = errors.Join(err, tmp.Close()); err != nil {
		return err
	}
	err = os.Rename(tmp.Name(), f.Path)
	if errors.Is(err, unix.EBUSY) { // a file that is mounted by itself can only be written where it is
		return os.WriteFile(f.Path, text, mode)
	}
	return err
}
