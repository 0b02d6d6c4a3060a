package ftp

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
)

var (
	_ host.Root    = (*root)(nil)
	_ host.Bounded = (*root)(nil)
)

// root keeps to its folder over a protocol that follows links without saying so: each folder on the way to a name must
// be one, and no link, and a file that is read may be a link only to a file inside.
type root struct {
	h    *Host
	path string

	mu   sync.Mutex
	seen map[string]listing // by absolute path
}

// listing is a folder as it was when it was listed.
type listing struct {
	at   time.Time
	list []*info
}

// settled is for how long a folder that was listed is taken to be as it was.
const settled = 10 * time.Second

func (r *root) Path() string { return r.path }
func (r *root) Close() error { return nil } // the connections are the host's

// AtOnce keeps to what hosts allow.
func (r *root) AtOnce(usual int) int {
	most := r.h.opt.Streams
	if most == 0 {
		most = usualStreams
	}
	return min(usual, most)
}

// Patience is not needed: the host's load is not known.
func (r *root) Patience(context.Context) error { return nil }

// with lends a connection.
func (r *root) with(do func(*control) error) error { return r.h.with(context.Background(), do) }

// list lists a folder by its absolute path.
func (r *root) list(dir string, anew bool) ([]*info, error) {
	r.mu.Lock()
	l, ok := r.seen[dir]
	r.mu.Unlock()
	if ok && !anew && time.Since(l.at) < settled {
		return l.list, nil
	}
	var out []*info
	err := r.with(func(c *control) (err error) {
		out, err = c.list(dir)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading folder %s: %w", dir, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.seen) > 256 {
		clear(r.seen)
	}
	r.seen[dir] = listing{time.Now(), out}
	return out, nil
}

// changed forgets a folder in which something was changed.
func (r *root) changed(dir string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.seen, dir)
}

// list lists a folder: what there is from LIST, which alone tells links, and more about it from MLSD or MDTM.
func (c *control) list(dir string) ([]*info, error) {
	if _, err := c.say(250, "CWD "+dir); err != nil {
		return nil, err
	}
	lines, err := c.lines("LIST -a")
	if err != nil {
		return nil, err
	}
	out := listed(lines, time.Now())
	if len(out) == 0 && len(lines) > 3 {
		return nil, fmt.Errorf("the host lists files in a form that is not known here: %q", lines[0])
	}
	if c.can["MLST"] {
		if lines, err = c.lines("MLSD"); err != nil {
			return nil, err
		}
		known := make(map[string]info, len(lines))
		for _, line := range lines {
			if e, ok := facts(line); ok {
				known[e.name] = e
			}
		}
		for _, e := range out {
			e.know(known[e.name])
		}
	} else if c.can["MDTM"] {
		err = c.times(out)
	}
	slices.SortFunc(out, func(a, b *info) int { return strings.Compare(a.name, b.name) })
	return out, err
}

// know adds what MLSD says of a file. Of a link it says what it leads to.
func (e *info) know(x info) {
	if e.mode&fs.ModeSymlink != 0 || x.name == "" {
		return
	}
	if !x.mtime.IsZero() {
		e.mtime = x.mtime
	}
	if x.mode != 0 {
		e.mode = e.mode.Type() | x.mode
	}
	if e.owner == nil || x.owner != nil {
		e.owner = x.owner
	}
}

// atOnce is how many questions are sent before their answers are read.
const atOnce = 50

// times asks for the times of files, many at once.
func (c *control) times(list []*info) error {
	var files []*info
	var questions []string
	for _, e := range list {
		if e.mode.IsRegular() && sayable(e.name) {
			files, questions = append(files, e), append(questions, "MDTM "+e.name)
		}
	}
	return c.many(questions, func(i int) error {
		_, text, err := c.read(213)
		if errors.Is(err, errBroken) {
			return err
		}
		if t := exact(text); err == nil && !t.IsZero() {
			files[i].mtime = t
		}
		return nil
	})
}

// many says commands, many of them before the first one is answered; answer reads that of one.
func (c *control) many(commands []string, answer func(i int) error) error {
	if slices.ContainsFunc(commands, func(q string) bool { return !sayable(q) }) {
		return errUnsayable
	}
	for i, n := 0, 0; i < len(commands); i = n {
		for n = i; n < min(i+atOnce, len(commands)); n++ {
			if err := c.write(commands[n]); err != nil {
				return err
			}
		}
		for k := i; k < n; k++ {
			if err := answer(k); err != nil {
				return err
			}
		}
	}
	return nil
}

// lines gives what a command lists.
func (c *control) lines(command string) ([]string, error) {
	d, err := c.data(command)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var out []string
	in := bufio.NewReader(idling{d})
	for {
		line, err := in.ReadString('\n')
		if line = strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r"); line != "" {
			out = append(out, line)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errBroken, err)
		}
	}
	d.Close()
	_, _, err = c.read(2)
	return out, err
}

// at gives the absolute path of a name, whose folder was seen to be inside.
func (r *root) at(name string) (string, error) {
	c, err := host.Clean(name)
	if err != nil {
		return "", err
	}
	if !sayable(c) {
		return "", &fs.PathError{Op: "look", Path: name, Err: errUnsayable}
	}
	dir := r.path
	parts := strings.Split(c, "/")
	for _, p := range parts[:len(parts)-1] {
		e, err := r.find(dir, p, false)
		if err != nil {
			return "", &fs.PathError{Op: "look", Path: name, Err: err}
		}
		if e.mode&fs.ModeSymlink != 0 {
			return "", fmt.Errorf("%s leads through a link: %w", name, host.ErrEscapes)
		}
		dir = path.Join(dir, p)
	}
	return path.Join(r.path, c), nil
}

// find gives what a folder has under a name. What was not there when it was listed may be there now.
func (r *root) find(dir, name string, anew bool) (*info, error) {
	for {
		list, err := r.list(dir, anew)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(list, func(e *info) bool { return e.name == name }); i >= 0 {
			return list[i], nil
		}
		if anew {
			return nil, fs.ErrNotExist
		}
		anew = true
	}
}

// look gives what is at an absolute path inside.
func (r *root) look(abs string, anew bool) (*info, error) {
	if abs == r.path {
		return &info{name: path.Base(abs), mode: fs.ModeDir | 0o755}, nil
	}
	return r.find(path.Dir(abs), path.Base(abs), anew)
}

func (r *root) Lstat(name string) (fs.FileInfo, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	e, err := r.look(p, false)
	if err != nil {
		return nil, &fs.PathError{Op: "lstat", Path: name, Err: err}
	}
	return e, nil
}

func (r *root) ReadDir(name string) ([]fs.FileInfo, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	if e, err := r.look(p, false); err == nil && e.mode&fs.ModeSymlink != 0 {
		return nil, fmt.Errorf("%s is a link: %w", name, host.ErrEscapes)
	}
	list, err := r.list(p, true)
	out := make([]fs.FileInfo, len(list))
	for i, e := range list {
		out[i] = e
	}
	return out, err
}

func (r *root) Readlink(name string) (string, error) {
	p, err := r.at(name)
	if err != nil {
		return "", err
	}
	e, err := r.look(p, false)
	if err == nil && e.mode&fs.ModeSymlink == 0 {
		err = fs.ErrInvalid
	}
	if err != nil {
		return "", &fs.PathError{Op: "readlink", Path: name, Err: err}
	}
	return e.target, nil
}

// hops is how many links are followed.
const hops = 8

func (r *root) Open(name string) (host.File, error) {
	for n := range hops {
		p, err := r.at(name)
		if err != nil {
			return nil, err
		}
		e, err := r.look(p, n > 0)
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		if e.mode&fs.ModeSymlink == 0 {
			return &file{r: r, path: p, info: e}, nil
		}
		if !host.LinkInside(r.path, name, e.target) {
			return nil, fmt.Errorf("%s leads to %s: %w", name, e.target, host.ErrEscapes)
		}
		if name = path.Join(path.Dir(name), e.target); path.IsAbs(e.target) {
			name = strings.TrimPrefix(strings.TrimPrefix(path.Clean(e.target), r.path), "/")
		}
	}
	return nil, fmt.Errorf("%s leads in circles: %w", name, host.ErrEscapes)
}
