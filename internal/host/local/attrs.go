package local

import (
	"errors"
	"fmt"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"

	"alibi/internal/host"
)

// ours tells whether an extended attribute is one that belongs to a site: what
// people set, and access control lists (xattr(7), acl(5)).
func ours(name string) bool {
	return strings.HasPrefix(name, "user.") || strings.HasPrefix(name, "system.posix_acl_")
}

// within calls do with a name for the file that no link can lead elsewhere: it
// goes by the open folder that the file is in, and do does not follow the last
// part.
func (r *root) within(name string, do func(at string) error) error {
	c, err := host.Clean(name)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	d, err := r.dir(path.Dir(c))
	if err != nil {
		return escapes(err)
	}
	f, err := d.Open(".")
	if err != nil {
		return escapes(err)
	}
	defer f.Close()
	err = do(fmt.Sprintf("/proc/self/fd/%d/%s", f.Fd(), path.Base(c)))
	if errors.Is(err, unix.ENOTSUP) {
		return fmt.Errorf("%s: %w", name, errors.ErrUnsupported)
	}
	if err != nil {
		return &os.PathError{Op: "xattr", Path: name, Err: err}
	}
	return nil
}

// Attrs reads the extended attributes of a file or folder.
func (r *root) Attrs(name string) (out host.Attrs, err error) {
	err = r.within(name, func(at string) error {
		out, err = read(at)
		return err
	})
	if errors.Is(err, errors.ErrUnsupported) {
		return nil, nil
	}
	return out, err
}

func read(at string) (host.Attrs, error) {
	names := make([]byte, 1<<12)
	n, err := unix.Llistxattr(at, names)
	if errors.Is(err, unix.ERANGE) {
		names = make([]byte, 1<<16) // the kernel's limit
		n, err = unix.Llistxattr(at, names)
	}
	if err != nil {
		return nil, err
	}
	var out host.Attrs
	for _, k := range strings.Split(strings.TrimRight(string(names[:n]), "\x00"), "\x00") {
		if !ours(k) {
			continue
		}
		value := make([]byte, 1<<16) // the kernel's limit
		n, err := unix.Lgetxattr(at, k, value)
		if errors.Is(err, unix.ENODATA) {
			continue // removed since
		}
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = host.Attrs{}
		}
		out[k] = append([]byte{}, value[:n]...)
	}
	return out, nil
}

// SetAttrs makes a the extended attributes of a file or folder.
func (r *root) SetAttrs(name string, a host.Attrs) error {
	return r.within(name, func(at string) error {
		have, err := read(at)
		if err != nil && (!errors.Is(err, unix.ENOTSUP) || len(a) > 0) {
			return err
		}
		for k := range have {
			if _, stays := a[k]; !stays {
				if err := unix.Lremovexattr(at, k); err != nil && !errors.Is(err, unix.ENODATA) {
					return err
				}
			}
		}
		for k, v := range a {
			if string(have[k]) != string(v) {
				if err := unix.Lsetxattr(at, k, v, 0); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
