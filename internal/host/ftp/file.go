package ftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"strconv"
	"sync"
	"time"
)

// idling is a connection on which something has to come within a time.
type idling struct{ net.Conn }

func (c idling) Read(p []byte) (int, error) {
	_ = c.SetReadDeadline(time.Now().Add(moving))
	return c.Conn.Read(p)
}

func (c idling) Write(p []byte) (int, error) {
	_ = c.SetWriteDeadline(time.Now().Add(moving))
	return c.Conn.Write(p)
}

// file is read as one stream; where somebody asks for a place that is not the next, a new one begins there.
type file struct {
	r    *root
	path string
	info *info

	mu  sync.Mutex
	pos int64 // of the next byte of the stream
	off int64 // of the next Read
	c   *control
	d   net.Conn // nil: no stream is open
}

func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }

// begin opens a stream at a place.
func (f *file) begin(at int64) error {
	for {
		c, fresh, err := f.r.h.take(context.Background())
		if err != nil {
			return f.r.h.named(err)
		}
		if at > 0 {
			_, err = c.say(350, "REST "+strconv.FormatInt(at, 10))
		}
		var d net.Conn
		if err == nil {
			d, err = c.data("RETR " + f.path)
		}
		if err == nil {
			f.c, f.d, f.pos = c, idling{d}, at
			return nil
		}
		if !errors.Is(err, errBroken) {
			f.r.h.give(c)
			return f.r.h.named(&fs.PathError{Op: "open", Path: f.path, Err: err})
		}
		c.close()
		if fresh {
			return f.r.h.named(err)
		}
	}
}

// end ends a stream. One that was read to its end leaves a connection that can be used again.
func (f *file) end(whole bool) (err error) {
	if f.d == nil {
		return nil
	}
	f.d.Close()
	if whole {
		_, _, err = f.c.read(2)
	}
	if whole && err == nil {
		f.r.h.give(f.c)
	} else {
		f.c.close()
	}
	f.c, f.d = nil, nil
	if err != nil {
		return fmt.Errorf("%s was not read whole: %w", f.path, err)
	}
	return nil
}

func (f *file) readAt(p []byte, at int64) (n int, err error) {
	if f.d != nil && f.pos != at {
		_ = f.end(false)
	}
	if f.d == nil {
		if err := f.begin(at); err != nil {
			return 0, err
		}
	}
	for n < len(p) && err == nil {
		var k int
		k, err = f.d.Read(p[n:])
		n, f.pos = n+k, f.pos+int64(k)
	}
	if err != nil {
		whole := err == io.EOF
		if eerr := f.end(whole); eerr != nil {
			return n, eerr
		}
		if !whole {
			return n, f.r.h.named(fmt.Errorf("reading %s: %w", f.path, err))
		}
	}
	return n, err
}

func (f *file) Read(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(p) == 0 {
		return 0, nil
	}
	n, err := f.readAt(p, f.off)
	f.off += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}

func (f *file) ReadAt(p []byte, at int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.readAt(p, at)
}

// Close ends the stream. Who read as much as the file was long did not see its end.
func (f *file) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	whole := false
	if f.d != nil && f.pos >= f.info.Size() {
		n, err := f.d.Read(make([]byte, 1))
		whole = n == 0 && err == io.EOF
	}
	return f.end(whole)
}
