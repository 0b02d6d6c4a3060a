package depot

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"sync"

	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Taking is a point that is being taken. It is safe for concurrent use.
type Taking struct {
	d      *Depot
	ctx    context.Context
	pack   *packer
	unlock func()

	mu    sync.Mutex
	now   map[ID]bool // chunks on their way
	added int64
}

// Take begins a point; nothing is removed from the depot until it is closed.
func (d *Depot) Take(ctx context.Context) (*Taking, error) {
	unlock, err := d.store.Lock(ctx, false)
	if err != nil {
		return nil, err
	}
	if err := d.load(ctx, true); err != nil {
		unlock()
		return nil, err
	}
	t := &Taking{d: d, ctx: ctx, unlock: unlock, now: map[ID]bool{}}
	t.pack, err = newPacker(ctx, d.store, func(name string, size int64, blocks []block) {
		d.mu.Lock()
		d.know(name, blocks)
		d.mu.Unlock()
		t.mu.Lock()
		t.added += size
		t.mu.Unlock()
	})
	if err != nil {
		unlock()
		return nil, err
	}
	return t, nil
}

// Close gives up what was not sealed. What was stored already is found again by
// the next try, or pruned.
func (t *Taking) Close() {
	t.pack.stop()
	t.unlock()
}

// Chunk keeps a chunk.
func (t *Taking) Chunk(b []byte) (ID, error) {
	id := Sum(b)
	if t.d.Has(id) {
		return id, nil
	}
	t.mu.Lock()
	known := t.now[id]
	t.now[id] = true
	t.mu.Unlock()
	if known {
		return id, nil
	}
	return id, t.pack.add(id, b)
}

// Stream keeps what r gives, in chunks. room is scratch room, as for Cut.
func (t *Taking) Stream(r io.Reader, room *[]byte) (ids []ID, err error) {
	err = Cut(r, room, func(chunk []byte) error {
		id, err := t.Chunk(chunk)
		ids = append(ids, id)
		return err
	})
	return ids, err
}

// JSON keeps a value as JSON.
func (t *Taking) JSON(v any) ([]ID, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return t.Stream(bytes.NewReader(append(text, '\n')), new([]byte))
}

// File is an entry of a tree, and the chunks of its bytes.
type File struct {
	tree.Entry
	Chunks []ID `json:"chunks,omitempty"`
	// Name is the path where it is not UTF-8, which JSON could not keep.
	Name []byte `json:"name,omitempty"`
}

// Files keeps the list of a point's entries.
func (t *Taking) Files(list []File) ([]ID, error) {
	pr, pw := io.Pipe()
	defer pr.Close() // ends the writer if the stream is given up
	go func() {
		enc := json.NewEncoder(pw)
		var err error
		for _, f := range list {
			if f.Name = nil; !validUTF8(f.Path, f.Link) {
				f.Name = []byte(f.Path + "\x00" + f.Link)
			}
			if err = enc.Encode(f); err != nil {
				break
			}
		}
		pw.CloseWithError(err)
	}()
	return t.Stream(pr, new([]byte))
}

// Table keeps the rows that read gives.
func (t *Taking) Table(tab tables.Table, read func(give func(tables.Row) error) error) (Kept, error) {
	k := Kept{Name: tab.Name}
	var list []ID
	s := segments{t: tab, give: func(b []byte) error {
		id, err := t.Chunk(b)
		list = append(list, id)
		k.Bytes += int64(len(b))
		return err
	}}
	err := read(func(r tables.Row) error {
		k.Rows++
		return s.add(r)
	})
	if err == nil {
		err = s.flush()
	}
	if err == nil {
		k.List, err = t.JSON(list)
	}
	return k, err
}

// Holds tells whether everything that a table needs is stored still, so that it
// can be taken over from an earlier point.
func (t *Taking) Holds(k Kept) bool {
	var list []ID
	return t.d.value(t.ctx, k.List, &list) == nil && t.HoldsAll(list)
}

// HoldsAll tells whether all of the chunks are stored.
func (t *Taking) HoldsAll(ids []ID) bool {
	for _, id := range ids {
		if !t.d.Has(id) {
			return false
		}
	}
	return true
}

// Seal stores the point, after everything that it needs.
func (t *Taking) Seal(p Point) (Point, error) {
	if len(p.List) == 0 {
		return p, errors.New("a point without its list can't be kept")
	}
	if err := t.pack.finish(); err != nil {
		return p, err
	}
	p.Added = t.added
	return t.d.put(t.ctx, p)
}
