// Package depot keeps restore points of sites: all files and rows as they were
// at a moment, each different piece of them once. Its format is open; see
// docs/formats/depot.md.
//
// A point is listed only after everything that it needs is stored, and nothing
// that a listed point needs is ever removed, so a process that dies at any
// moment loses at most the point that it was taking.
package depot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
)

// Errors that callers decide on.
var (
	ErrDamaged = errors.New("the depot is damaged (verify tells how much of it)")
	ErrUnknown = errors.New("no such restore point")
	ErrForeign = errors.New("this is no depot of Alibi's")
)

// version is that of the format.
const version = 1

// about is the file that makes a folder a depot.
const about = "depot.json"

type aboutDoc struct {
	Format     string `json:"format"`
	Version    int    `json:"version"`
	Encryption string `json:"encryption,omitempty"` // "age", or none; this file never is
}

// Depot is an open one. It is safe for concurrent use.
type Depot struct {
	store Store
	dec   *zstd.Decoder

	mu     sync.Mutex
	loaded bool
	packs  []string
	blocks [][]block // by pack
	where  map[ID]place
	points map[string]Point // that were read, by their files
	cache  blockCache
}

// place is where a chunk is.
type place struct {
	pack, block int32
	at, size    int32 // in the block
}

// Open opens a depot; an empty store becomes one, encrypted if there are keys.
func Open(ctx context.Context, store Store, keys ...*Key) (*Depot, error) {
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(compressors), zstd.WithDecoderMaxMemory(1<<30))
	if err != nil {
		return nil, err
	}
	d := &Depot{store: store, dec: dec}
	text, err := store.Get(ctx, about, 0, -1)
	if errors.Is(err, fs.ErrNotExist) {
		there, err := store.List(ctx, "")
		if err != nil {
			return nil, err
		}
		for _, s := range there {
			if s.Name != "lock" {
				return nil, fmt.Errorf("%w: it holds %s but no %s; name an empty folder", ErrForeign, s.Name, about)
			}
		}
		doc := aboutDoc{Format: "alibi-depot", Version: version}
		if len(keys) > 0 {
			doc.Encryption = "age"
			d.store = &sealed{store, keys}
		}
		text, err := json.Marshal(doc)
		if err != nil {
			return nil, err
		}
		return d, store.Put(ctx, about, append(text, '\n'))
	}
	if err != nil {
		return nil, err
	}
	var doc aboutDoc
	if err := json.Unmarshal(text, &doc); err != nil || doc.Format != "alibi-depot" {
		return nil, fmt.Errorf("%w: its %s says something else; name another folder", ErrForeign, about)
	}
	if doc.Version > version {
		return nil, fmt.Errorf("%w: it was written by a later version (%d); this one reads up to %d: bring "+
			"Alibi up to date", ErrForeign, doc.Version, version)
	}
	switch {
	case doc.Encryption == "" && len(keys) > 0:
		return nil, errors.New(
			"the depot is not encrypted, and a key is set for it: name an empty place for an encrypted one, or take " +
				"the key out of the configuration",
		)
	case doc.Encryption != "" && (doc.Encryption != "age" || len(keys) == 0):
		return nil, fmt.Errorf("%w: set depot.key in the configuration to the file that holds it", ErrLocked)
	case doc.Encryption != "":
		d.store = &sealed{store, keys}
	}
	return d, nil
}

// load reads which chunks there are; once, unless others wrote meanwhile.
func (d *Depot) load(ctx context.Context, again bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.loaded && !again {
		return nil
	}
	list, err := d.store.List(ctx, packs)
	if err != nil {
		return err
	}
	known := make(map[string][]block, len(d.packs)) // a pack never changes
	for i, name := range d.packs {
		known[name] = d.blocks[i]
	}
	indexes := make([][]block, len(list))
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for i, s := range list {
		if indexes[i] = known[s.Name]; indexes[i] != nil {
			continue
		}
		g.Go(func() (err error) {
			indexes[i], err = readIndex(gctx, d.store, d.dec, s)
			if errors.Is(err, ErrDamaged) {
				return nil // its chunks are missing; whoever needs one is told
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	d.packs, d.blocks, d.where = nil, nil, map[ID]place{}
	for i, s := range list {
		d.know(s.Name, indexes[i])
	}
	d.loaded = true
	return nil
}

// know adds a pack's chunks. d.mu is held.
func (d *Depot) know(name string, blocks []block) {
	n := int32(len(d.packs))
	d.packs, d.blocks = append(d.packs, name), append(d.blocks, blocks)
	for k, b := range blocks {
		at := int32(0)
		for _, c := range b.Chunks {
			d.where[c.ID] = place{n, int32(k), at, int32(c.Size)}
			at += int32(c.Size)
		}
	}
}

// Has tells whether a chunk is stored.
func (d *Depot) Has(id ID) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, ok := d.where[id]
	return ok
}

// Read gives a chunk, checked. It is the reader's.
func (d *Depot) Read(ctx context.Context, id ID) ([]byte, error) {
	if err := d.load(ctx, false); err != nil {
		return nil, err
	}
	if !d.Has(id) { // another process may have stored it since
		if err := d.load(ctx, true); err != nil {
			return nil, err
		}
	}
	d.mu.Lock()
	p, ok := d.where[id]
	if !ok {
		d.mu.Unlock()
		return nil, fmt.Errorf("%w: chunk %s is missing", ErrDamaged, id)
	}
	name, b := d.packs[p.pack], d.blocks[p.pack][p.block]
	d.mu.Unlock()
	raw, err := d.cache.get(blockKey{name, b.At}, func() ([]byte, error) { return d.block(ctx, name, b) })
	if err != nil {
		return nil, err
	}
	if int(p.at)+int(p.size) > len(raw) {
		return nil, fmt.Errorf("%w: %s: a block is too short", ErrDamaged, name)
	}
	out := append([]byte(nil), raw[p.at:p.at+p.size]...)
	if Sum(out) != id {
		return nil, fmt.Errorf("%w: %s: chunk %s is not what it was", ErrDamaged, name, id)
	}
	return out, nil
}

// Place tells where a chunk lies, as a number that is larger for what lies behind it; 0 if it is not there.
func (d *Depot) Place(ctx context.Context, id ID) (int64, error) {
	if err := d.load(ctx, false); err != nil {
		return 0, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	p, ok := d.where[id]
	if !ok {
		return 0, nil
	}
	return int64(p.pack)<<32 | int64(p.block), nil
}

// block reads and unpacks a block.
func (d *Depot) block(ctx context.Context, pack string, b block) ([]byte, error) {
	frame, err := d.store.Get(ctx, pack, b.At, b.Size)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s is missing", ErrDamaged, pack)
	}
	if err != nil {
		return nil, err
	}
	size := 0
	for _, c := range b.Chunks {
		size += c.Size
	}
	raw, err := d.dec.DecodeAll(frame, make([]byte, 0, size))
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrDamaged, pack, err)
	}
	return raw, nil
}

type blockKey struct {
	pack string
	at   int64
}

// cached is how many blocks are kept in memory, unpacked.
const cached = 8

// blockCache keeps the blocks that were used last. A block that is being read
// is waited for, not read twice.
type blockCache struct {
	mu   sync.Mutex
	has  map[blockKey]*entry
	last []blockKey // used last at the end
}

type entry struct {
	once sync.Once
	raw  []byte
	err  error
}

func (c *blockCache) get(k blockKey, read func() ([]byte, error)) ([]byte, error) {
	c.mu.Lock()
	if c.has == nil {
		c.has = map[blockKey]*entry{}
	}
	e, ok := c.has[k]
	if !ok {
		e = &entry{}
		c.has[k] = e
	}
	for i, x := range c.last {
		if x == k {
			c.last = append(c.last[:i], c.last[i+1:]...)
			break
		}
	}
	c.last = append(c.last, k)
	if len(c.last) > cached {
		delete(c.has, c.last[0])
		c.last = c.last[1:]
	}
	c.mu.Unlock()
	e.once.Do(func() { e.raw, e.err = read() })
	if e.err != nil {
		c.mu.Lock()
		if c.has[k] == e {
			delete(c.has, k) // it is tried again by the next
		}
		c.mu.Unlock()
	}
	return e.raw, e.err
}
