package ftp

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/site"
)

// Create makes a new file. The host has no word for that: it is looked whether there is one before. What others may not
// read is made empty first, and closed to them. A name of ours that nobody can guess (host.Half) need not be looked at:
// nobody can have put another thing, or a link, there.
func (r *root) Create(name string, perm fs.FileMode) (io.WriteCloser, error) {
	p, err := r.at(name)
	if err != nil {
		return nil, err
	}
	if !host.Half(p) {
		if _, err := r.look(p, true); err == nil {
			return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	defer r.changed(path.Dir(p))
	all := perm.Perm()&0o044 == 0o044
	if !all {
		if err := r.store(p, strings.NewReader("")); err != nil {
			return nil, err
		}
		if err := r.private(p, perm); err != nil {
			return nil, errors.Join(err, r.say(250, "DELE "+p))
		}
	}
	pr, pw := io.Pipe()
	w := &writing{w: pw, done: make(chan error, 1)}
	go func() {
		err := r.store(p, pr)
		_ = pr.CloseWithError(err)
		r.changed(path.Dir(p))
		if err == nil && all {
			err = r.private(p, perm)
		}
		w.done <- err
	}()
	return w, nil
}

// writing is a file that is being written: it is there when it was closed without an error.
type writing struct {
	w    *io.PipeWriter
	done chan error
}

func (w *writing) Write(p []byte) (int, error) { return w.w.Write(p) }

func (w *writing) Close() error {
	w.w.Close()
	return <-w.done
}

func (r *root) store(p string, from io.Reader) error {
	return r.with(func(c *control) error {
		d, err := c.data("STOR " + p)
		if err != nil {
			return err
		}
		if _, err = io.Copy(idling{d}, from); err != nil {
			d.Close()
			return fmt.Errorf("%w: %w", errSpent, err)
		}
		if err := d.Close(); err != nil {
			return fmt.Errorf("%w: %w", errSpent, err)
		}
		if _, _, err := c.read(2); err != nil {
			return fmt.Errorf("%w: %w", errSpent, err)
		}
		return nil
	})
}

func (r *root) say(expect int, command string) error {
	return r.with(func(c *control) error {
		_, err := c.say(expect, command)
		return err
	})
}

func (r *root) mode(p string, perm fs.FileMode) error {
	return r.say(2, "SITE CHMOD "+octal(perm)+" "+p)
}

// private gives what was just made its mode. A host that refuses that may have given it one that lets nobody do more.
func (r *root) private(p string, perm fs.FileMode) error {
	err := r.mode(p, perm)
	if err == nil || errors.Is(err, host.ErrNoAnswer) {
		return err
	}
	if e, lerr := r.look(p, true); lerr == nil && e.mode.Perm()&^perm.Perm() == 0 {
		return nil
	}
	return err
}

func (r *root) Mkdir(name string, perm fs.FileMode) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	if _, err := r.look(p, true); err == nil {
		return &fs.PathError{Op: "mkdir", Path: name, Err: fs.ErrExist}
	}
	defer r.changed(path.Dir(p))
	if err := r.say(257, "MKD "+p); err != nil {
		return &fs.PathError{Op: "mkdir", Path: name, Err: err}
	}
	return r.private(p, perm)
}

// Symlink is refused: FTP has no word for it.
func (r *root) Symlink(target, name string) error {
	if _, err := r.at(name); err != nil {
		return err
	}
	if !host.LinkInside(r.path, name, target) {
		return fmt.Errorf("linking %s to %s: %w", name, target, host.ErrEscapes)
	}
	return r.h.named(fmt.Errorf("it makes no links: %w", errors.ErrUnsupported))
}

func (r *root) Rename(from, to string) error {
	a, err := r.at(from)
	if err != nil {
		return err
	}
	b, err := r.at(to)
	if err != nil {
		return err
	}
	defer r.changed(path.Dir(a))
	defer r.changed(path.Dir(b))
	return r.with(func(c *control) error {
		if _, err := c.say(350, "RNFR "+a); err != nil {
			return err
		}
		_, err := c.say(250, "RNTO "+b)
		return err
	})
}

func (r *root) Remove(name string) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	defer r.changed(path.Dir(p))
	if host.Half(p) {
		return r.say(250, "DELE "+p)
	}
	e, err := r.look(p, true)
	if err != nil {
		return &fs.PathError{Op: "remove", Path: name, Err: err}
	}
	return r.say(250, removal(p, e))
}

// removal is the command that removes what is at a path.
func removal(p string, e *info) string { return site.Either(e.IsDir(), "RMD ", "DELE ") + p }

// RemoveAll removes a file, a link, or a folder and all that is in it: each folder is listed once.
func (r *root) RemoveAll(name string) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	e, err := r.look(p, true)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && e.IsDir() {
		err = r.empty(p)
	}
	if err == nil {
		err = r.say(250, removal(p, e))
	}
	r.changed(path.Dir(p))
	if err != nil {
		return &fs.PathError{Op: "remove", Path: name, Err: err}
	}
	return nil
}

// empty removes all that is in a folder. What could not be removed and is gone is no error.
func (r *root) empty(dir string) error {
	list, err := r.list(dir, true)
	if err != nil {
		return err
	}
	commands := make([]string, len(list))
	for i, e := range list {
		p := path.Join(dir, e.name)
		if commands[i] = removal(p, e); e.IsDir() {
			if err := r.empty(p); err != nil {
				return err
			}
		}
	}
	refused := map[string]error{}
	err = r.with(func(c *control) error {
		return c.many(commands, func(i int) error {
			_, _, err := c.read(250)
			if err != nil && !errors.Is(err, errBroken) {
				refused[list[i].name] = err
				return nil
			}
			return err
		})
	})
	if err != nil || len(refused) == 0 {
		r.changed(dir)
		return err
	}
	if list, err = r.list(dir, true); err != nil {
		return err
	}
	for _, e := range list {
		if err := refused[e.name]; err != nil {
			return fmt.Errorf("removing %s: %w", path.Join(dir, e.name), err)
		}
	}
	return nil
}

// noLink refuses a name that is a link: its attributes are another file's.
func (r *root) noLink(name string) (string, error) {
	p, err := r.at(name)
	if err != nil {
		return "", err
	}
	if host.Half(p) {
		return p, nil
	}
	e, err := r.look(p, true)
	if err != nil {
		return "", &fs.PathError{Op: "look", Path: name, Err: err}
	}
	if e.mode&fs.ModeSymlink != 0 {
		return "", fmt.Errorf("%s is a link: %w", name, host.ErrEscapes)
	}
	return p, nil
}

func (r *root) Chmod(name string, perm fs.FileMode) error {
	p, err := r.noLink(name)
	if err != nil {
		return err
	}
	defer r.changed(path.Dir(p))
	return r.mode(p, perm)
}

// Chtimes sets a time, to the second.
func (r *root) Chtimes(name string, mtime time.Time) error {
	p, err := r.noLink(name)
	if err != nil {
		return err
	}
	defer r.changed(path.Dir(p))
	return r.with(func(c *control) error {
		word := "MDTM" // some servers set the time by it
		if c.can["MFMT"] {
			word = "MFMT"
		}
		_, err := c.say(213, word+" "+mtime.UTC().Format("20060102150405")+" "+p)
		return err
	})
}
