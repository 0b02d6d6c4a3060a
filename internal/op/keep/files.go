package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/zeebo/blake3"

	"alibi/internal/depot"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// again is how often files are read that change while they are read.
const again = 4

// files keeps the entries of the site's folder.
func (k *keeping) files(ctx context.Context, place stack.Place, s site.Site, p *depot.Point) error {
	before, err := k.before(ctx)
	if err != nil {
		return err
	}
	kept := map[string]depot.File{}
	filter := stack.DatabaseFilter(s.Root, s.Database)
	filter.Attrs = true
	first := 0
	for try := 0; ; try++ {
		list, err := tree.Scan(ctx, place.Root, filter)
		if err != nil {
			return fmt.Errorf("listing the site's files: %w", err)
		}
		files, _ := list.Totals()
		if first = max(first, files); files < first/2 && first > 20 {
			return fmt.Errorf(
				"keeping the files: %d of %d are gone: %w; see whether the site is being moved, and take the point "+
					"when they are back",
				first-files,
				first,
				tree.ErrVanish,
			)
		}
		var read []tree.Entry
		for _, e := range list.Entries {
			if have, ok := kept[e.Path]; !e.Regular() || ok && have.Untouched(e) {
				continue
			}
			if was, ok := before[e.Path]; ok && was.Untouched(e) && !k.c.Fresh && k.to.HoldsAll(was.Chunks) {
				kept[e.Path] = was
				k.t.Add(e.Size, 1)
				continue
			}
			read = append(read, e)
		}
		if len(read) == 0 || try == again {
			return k.list(list.Entries, kept, p)
		}
		if err := k.read(ctx, place, read, kept); err != nil {
			return err
		}
	}
}

// before gives the files of the point before that can't have changed since if
// their size and time are the same.
func (k *keeping) before(ctx context.Context) (map[string]depot.File, error) {
	if k.last == nil {
		return nil, nil
	}
	out, err := k.d.Settled(ctx, *k.last)
	if errors.Is(err, depot.ErrDamaged) {
		return nil, nil // then everything is read
	}
	return out, err
}

// read keeps the bytes of files.
func (k *keeping) read(ctx context.Context, place stack.Place, list []tree.Entry, kept map[string]depot.File) error {
	var mu sync.Mutex
	rooms := sync.Pool{New: func() any { return new([]byte) }} // for cutting
	err := tree.Each(ctx, place.Root, list, func(e tree.Entry, r io.Reader) error {
		room := rooms.Get().(*[]byte)
		defer rooms.Put(room)
		n := &counter{r: r}
		var h *blake3.Hasher
		if e.Size > depot.Whole {
			h = blake3.New()
			n.r = io.TeeReader(r, h)
		}
		ids, err := k.to.Stream(n, room)
		if err != nil {
			return fmt.Errorf("%s: %w", e.Path, err)
		}
		if n.n != e.Size {
			return nil // it was cut or grew meanwhile: it is read again
		}
		switch {
		case h != nil:
			h.Sum(e.Hash[:0])
		case len(ids) == 1:
			e.Hash = tree.Hash(ids[0]) // the chunk is the file
		default: // an empty one
			e.Hash = tree.Hash(blake3.Sum256(nil))
		}
		mu.Lock()
		defer mu.Unlock()
		kept[e.Path] = depot.File{Entry: e, Chunks: ids}
		k.t.Add(e.Size, 1)
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading the site's files: %w", err)
	}
	return nil
}

// list keeps the list of entries. Files that could not be read, or changed each
// time, are as they were read last; those that were never read are left out.
func (k *keeping) list(entries []tree.Entry, kept map[string]depot.File, p *depot.Point) (err error) {
	var out []depot.File
	for _, e := range entries {
		f := depot.File{Entry: e}
		if e.Regular() {
			have, ok := kept[e.Path]
			if !ok {
				p.Missing = append(p.Missing, e.Path)
				continue
			}
			f.Size, f.MTime, f.Hash, f.Chunks = have.Size, have.MTime, have.Hash, have.Chunks
			p.Files++
			p.Bytes += f.Size
		}
		out = append(out, f)
	}
	p.List, err = k.to.Files(out)
	return err
}

// counter counts what is read.
type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
