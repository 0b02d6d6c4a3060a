package tree

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
)

// Look reads the whole of some files while they are digested. Both functions
// are called from several goroutines.
type Look struct {
	Want func(Entry) bool // of files that are small enough to be held in memory
	Text func(e Entry, text []byte)
}

// Digest sets the digest of every file in entries, with the size and time that
// it had when it was read, by several readers at once,
// and has look see those that it wants; it may be nil. A file that can't be
// read keeps the zero digest.
func Digest(ctx context.Context, root host.Tree, entries []Entry, look *Look, progress Progress) error {
	at := make(map[string]int, len(entries))
	for i, e := range entries {
		at[e.Path] = i
	}
	rooms := sync.Pool{New: func() any { return new(bytes.Buffer) }}
	return Each(ctx, root, entries, func(e Entry, r io.Reader) error {
		room := rooms.Get().(*bytes.Buffer)
		defer rooms.Put(room)
		if err := digest(&e, r, look, room); err != nil {
			return fmt.Errorf("reading %s: %w", e.Path, err)
		}
		is := &entries[at[e.Path]]
		is.Hash, is.Size, is.MTime, is.Changed = e.Hash, e.Size, e.MTime, e.Changed
		progress(e.Size, 1)
		return nil
	})
}

// Forged reads the files that look as they did before and were changed in some way since, as far as the
// host tells when they were changed. It names those that hold something else, and gives those that do
// not as they are now.
func Forged(
	ctx context.Context, root host.Tree, now []Entry, before func(Entry) (Entry, bool),
) (other map[string]bool, same []Entry, err error) {
	var list []Entry
	for _, e := range now {
		if was, known := before(e); known && e.Regular() && e.Same(was) && !e.Untouched(was) {
			list = append(list, e)
		}
	}
	if err := Digest(ctx, root, list, nil, func(int64, int) {}); err != nil {
		return nil, nil, err
	}
	other = map[string]bool{}
	for _, e := range list {
		if was, _ := before(e); e.Hash == was.Hash {
			same = append(same, e)
		} else {
			other[e.Path] = true
		}
	}
	return other, same, nil
}

// Each gives the bytes of every file in entries, by several readers at once,
// with the size and time that it had when it was opened. Files that are gone or
// can't be read are left out.
func Each(ctx context.Context, root host.Tree, entries []Entry, give func(e Entry, r io.Reader) error) error {
	list := make([]Entry, 0, len(entries))
	for _, e := range entries {
		if e.Regular() {
			list = append(list, e)
		}
	}
	n := readers
	if _, ok := streams[host.Sender](root); ok {
		n = lanes
	}
	g, ctx := errgroup.WithContext(ctx)
	for _, lane := range split(list, host.AtOnce(n, root)) {
		g.Go(func() error {
			return each(ctx, root, lane, func(e Entry, r io.Reader) error {
				if err := host.Patience(ctx, root); err != nil {
					return err
				}
				return give(e, &meter{ctx: ctx, r: r})
			})
		})
	}
	return g.Wait()
}

func digest(e *Entry, r io.Reader, look *Look, room *bytes.Buffer) error {
	h := blake3.New()
	if look == nil || !look.Want(*e) {
		if _, err := io.Copy(h, r); err != nil {
			return err
		}
		h.Sum(e.Hash[:0])
		return nil
	}
	room.Reset()
	if _, err := io.Copy(room, r); err != nil {
		return err
	}
	_, _ = h.Write(room.Bytes())
	h.Sum(e.Hash[:0])
	look.Text(*e, room.Bytes())
	return nil
}
