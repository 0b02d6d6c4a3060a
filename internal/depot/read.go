package depot

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"alibi/internal/tables"
)

func validUTF8(s ...string) bool {
	for _, x := range s {
		if !utf8.ValidString(x) {
			return false
		}
	}
	return true
}

// Bytes reads chunks, one after another.
func (d *Depot) Bytes(ctx context.Context, ids []ID) io.Reader {
	return &chunks{ctx: ctx, d: d, left: ids}
}

type chunks struct {
	ctx  context.Context
	d    *Depot
	left []ID
	now  []byte
}

func (c *chunks) Read(p []byte) (int, error) {
	for len(c.now) == 0 {
		if len(c.left) == 0 {
			return 0, io.EOF
		}
		b, err := c.d.Read(c.ctx, c.left[0])
		if err != nil {
			return 0, err
		}
		c.now, c.left = b, c.left[1:]
	}
	n := copy(p, c.now)
	c.now = c.now[n:]
	return n, nil
}

// value reads a value that was kept as JSON.
func (d *Depot) value(ctx context.Context, ids []ID, v any) error {
	text, err := io.ReadAll(d.Bytes(ctx, ids))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, v); err != nil {
		return fmt.Errorf("%w: a list: %w", ErrDamaged, err)
	}
	return nil
}

// Files gives a point's entries, folders before what is in them.
func (d *Depot) Files(ctx context.Context, p Point) (out []File, err error) {
	dec := json.NewDecoder(d.Bytes(ctx, p.List))
	for {
		var f File
		err := dec.Decode(&f)
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the list of files of %s: %w", p.ID, err)
		}
		if path, link, ok := bytes.Cut(f.Name, []byte{0}); ok {
			f.Path, f.Link, f.Name = string(path), string(link), nil
		}
		out = append(out, f)
	}
}

// settled is how long before a point a file must have been changed for its times to tell that it did not change since.
const settled = 2 * time.Second

// Settled gives the files of a point, by path, that have not been changed since it was taken if their size and times
// are the same.
func (d *Depot) Settled(ctx context.Context, p Point) (map[string]File, error) {
	files, err := d.Files(ctx, p)
	if err != nil {
		return nil, err
	}
	out := make(map[string]File, len(files))
	for _, f := range files {
		if at := p.Taken.Add(-settled); f.Regular() && f.MTime.Before(at) && f.Changed.Before(at) {
			out[f.Path] = f
		}
	}
	return out, nil
}

// Schema gives a point's schema.
func (d *Depot) Schema(ctx context.Context, p Point) (s tables.Schema, err error) {
	return s, d.value(ctx, p.Schema, &s)
}

// Table streams the rows of a table in the order of its key. A row is valid
// until give returns.
func (d *Depot) Table(ctx context.Context, t tables.Table, k Kept, give func(tables.Row) error) error {
	var list []ID
	if err := d.value(ctx, k.List, &list); err != nil {
		return fmt.Errorf("table %s: %w", k.Name, err)
	}
	ahead := make(chan []byte, readAhead)
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(ahead)
		for _, id := range list {
			b, err := d.Read(gctx, id)
			if err != nil {
				return fmt.Errorf("table %s: %w", k.Name, err)
			}
			select {
			case ahead <- b:
			case <-gctx.Done():
				return gctx.Err()
			}
		}
		return nil
	})
	g.Go(func() error {
		for b := range ahead {
			if err := tables.ReadRows(b, t, give); err != nil {
				return err
			}
		}
		return nil
	})
	return g.Wait()
}

// readAhead is how many segments are unpacked while one is being gone through.
const readAhead = 8
