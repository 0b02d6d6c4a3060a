package inventory

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"
	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// Errors that callers decide on.
var (
	// ErrNoRoom is given where the disk that holds the record is full.
	ErrNoRoom = errors.New("the disk that holds Alibi's own folder is full: make room there, and go on")
	// ErrReadOnly is given where the record can only be read.
	ErrReadOnly = errors.New("the folder of Alibi's own files can't be written to: the record can be read, and " +
		"nothing else can be done")
)

// spareBytes is how much room is set aside, so that what happened can be written
// down even when a run has filled the disk.
const spareBytes = 2 << 20

// spare is a file beside the record that takes up room until it is needed.
type spare struct {
	path string
	mu   sync.Mutex
}

// set takes the room up, if there is enough.
func (s *spare) set() {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := os.OpenFile(s.path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	if unix.Fallocate(int(f.Fd()), 0, 0, spareBytes) != nil {
		_ = os.Remove(s.path) // there is no room, or the file system knows no such thing
	}
}

// give gives the room back, and tells whether there was any.
func (s *spare) give() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return os.Remove(s.path) == nil
}

// noRoom tells whether an error comes of a full disk: SQLite has several, since the
// file of shared memory and the log grow too.
func noRoom(err error) bool {
	var e *sqlite.Error
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return true
	}
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() {
	case lib.SQLITE_FULL,
		lib.SQLITE_IOERR_WRITE,
		lib.SQLITE_IOERR_SHMSIZE,
		lib.SQLITE_IOERR_SHMOPEN,
		lib.SQLITE_IOERR_FSYNC,
		lib.SQLITE_IOERR_TRUNCATE:
		return true
	}
	return false
}

// readOnly tells whether an error says that nothing can be written.
func readOnly(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == lib.SQLITE_READONLY || errors.Is(err, unix.EROFS)
}

// write does something that writes to the record, once more with the room that was
// set aside if there is none left, and gives its error a name.
func (in *Inventory) write(ctx context.Context, do func() error) error {
	err := do()
	if noRoom(err) && ctx.Err() == nil && in.spare.give() {
		err = do()
	}
	return named(err)
}

// named gives the error of a write a name, where it has one.
func named(err error) error {
	switch {
	case noRoom(err):
		return fmt.Errorf("%w (%w)", ErrNoRoom, err)
	case readOnly(err):
		return fmt.Errorf("%w (%w)", ErrReadOnly, err)
	}
	return err
}
