package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"syscall"
	"time"
)

// Owner is the account and the group that a file belongs to, by number.
type Owner struct {
	User  int `json:"user"`
	Group int `json:"group"`
}

// OwnerOf gives the owner of a file, or nil where the host does not tell.
func OwnerOf(fi fs.FileInfo) *Owner {
	switch st := fi.Sys().(type) {
	case *syscall.Stat_t:
		return &Owner{int(st.Uid), int(st.Gid)}
	case *Owner:
		return st
	}
	return nil
}

// ChangedOf is when a file's bytes, mode or owner were changed last, which nobody can put back as
// they can put back its time; zero where the host does not tell.
// Source: st_ctim of stat(2).
func ChangedOf(fi fs.FileInfo) time.Time {
	if st, ok := fi.Sys().(*syscall.Stat_t); ok {
		return time.Unix(int64(st.Ctim.Sec), int64(st.Ctim.Nsec)).UTC()
	}
	return time.Time{}
}

// Owning is a root in which a file can be given to another account.
type Owning interface {
	// Chown never follows a link; fs.ErrPermission where our account may not.
	Chown(name string, o Owner) error
}

// Attrs are a file's extended attributes by name: those that people set
// ("user.") and access control lists ("system.posix_acl_access" and "_default",
// in the form of acl(5) as the kernel keeps it).
type Attrs map[string][]byte

// Equal tells whether two sets are the same.
func (a Attrs) Equal(b Attrs) bool { return maps.EqualFunc(a, b, bytes.Equal) }

// Attributed is a tree that knows of extended attributes.
type Attributed interface {
	// Attrs gives those of a file; nil where it has none.
	Attrs(name string) (Attrs, error)
}

// Attributing is a root in which extended attributes can be set.
type Attributing interface {
	// SetAttrs makes a the file's extended attributes, and removes others.
	SetAttrs(name string, a Attrs) error
}

// AllAttributed is a tree that reads the extended attributes of all its files at
// once, by path; files without any are left out.
type AllAttributed interface {
	AllAttrs(ctx context.Context) (map[string]Attrs, error)
}

// AttrsOf gives a file's extended attributes; nil where the tree knows of none.
func AttrsOf(root Tree, name string) (Attrs, error) {
	if r, ok := root.(Attributed); ok {
		return r.Attrs(name)
	}
	return nil, nil
}

// Access is what decides who may use a file: its mode, whose it is, and its
// extended attributes.
type Access struct {
	Mode  fs.FileMode
	Owner *Owner // nil: not known, and left alone
	Attrs Attrs
	Plain bool // extended attributes are neither looked at nor set
}

// ErrUnreadable says that a file would be closed to those who may read it now.
var ErrUnreadable = errors.New("it would be closed to the web server")

// Grant gives a file the access that it is to have, as far as our account may.
// given is what it then has. Where the owner can't be set and the file would be
// closed to somebody who is meant to read it, the error is ErrUnreadable.
func Grant(root Root, name string, want Access) (given Access, err error) {
	link := want.Mode&fs.ModeSymlink != 0
	if given.Owner, err = give(root, name, want); err != nil {
		return given, err
	}
	if link {
		return given, nil
	}
	// The mode comes last: chown(2) clears bits of it.
	if a, ok := root.(Attributing); ok && !want.Plain {
		if err := a.SetAttrs(name, want.Attrs); err != nil && !errors.Is(err, errors.ErrUnsupported) {
			return given, fmt.Errorf("setting the extended attributes of %s: %w", name, err)
		}
		given.Attrs = want.Attrs
	}
	given.Mode = want.Mode
	if err := root.Chmod(name, want.Mode); err != nil {
		return given, fmt.Errorf("setting the mode of %s: %w", name, err)
	}
	return given, nil
}

// give sets the owner, or at least the group, and gives what it is then.
func give(root Root, name string, want Access) (*Owner, error) {
	fi, err := root.Lstat(name)
	if err != nil {
		return nil, err
	}
	is := OwnerOf(fi)
	if want.Owner == nil || is == nil || *is == *want.Owner {
		return is, nil
	}
	o, ok := root.(Owning)
	if !ok {
		return is, unreadable(name, want, *is)
	}
	err = o.Chown(name, *want.Owner)
	if err == nil {
		return want.Owner, nil
	}
	if !errors.Is(err, fs.ErrPermission) {
		return is, fmt.Errorf("giving %s to its owner: %w", name, err)
	}
	now := Owner{is.User, want.Owner.Group}
	if o.Chown(name, now) != nil {
		now = *is
	}
	return &now, unreadable(name, want, now)
}

// unreadable tells whether a file with this owner would be closed to those whom
// its mode lets read it.
func unreadable(name string, want Access, is Owner) error {
	perm := want.Mode.Perm()
	switch {
	case want.Mode&fs.ModeSymlink != 0, perm&0o004 != 0:
		return nil
	case is.Group == want.Owner.Group && perm&0o040 != 0:
		return nil
	case perm&0o440 == 0: // nobody is meant to
		return nil
	}
	return fmt.Errorf("%s (mode %o) belongs to account %d, group %d, and ours may not give it to them: %w", name, perm,
		want.Owner.User, want.Owner.Group, ErrUnreadable)
}
