package depot

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// needs adds the chunks that a point needs.
func (d *Depot) needs(ctx context.Context, p Point, all map[ID]bool) error {
	add := func(ids []ID) {
		for _, id := range ids {
			all[id] = true
		}
	}
	add(p.List)
	add(p.Schema)
	files, err := d.Files(ctx, p)
	if err != nil {
		return err
	}
	for _, f := range files {
		add(f.Chunks)
	}
	for _, k := range p.Tables {
		add(k.List)
		var list []ID
		if err := d.value(ctx, k.List, &list); err != nil {
			return fmt.Errorf("table %s: %w", k.Name, err)
		}
		add(list)
	}
	return nil
}

// Pruned is what a pruning removed, or would.
type Pruned struct {
	Packs    int   `json:"packs"`    // removed
	Repacked int   `json:"repacked"` // of them, with chunks that were kept elsewhere
	Bytes    int64 `json:"bytes"`    // freed
}

// sparse is the share of a pack's bytes that must be needed for it to stay.
const sparse = 0.6

// Prune removes what no point needs. Packs of which little is needed are packed
// anew; the old ones go when the new ones are stored. With try nothing is done.
func (d *Depot) Prune(ctx context.Context, try bool) (out Pruned, err error) {
	unlock, err := d.store.Lock(ctx, true)
	if err != nil {
		return out, err
	}
	defer unlock()
	if err := d.load(ctx, true); err != nil {
		return out, err
	}
	list, bad, err := d.Points(ctx)
	if err != nil {
		return out, err
	}
	if len(bad) > 0 { // what they need is not known, so nothing may go
		return out, fmt.Errorf("nothing was removed: %w", errors.Join(bad...))
	}
	need := map[ID]bool{}
	for _, p := range list {
		if err := d.needs(ctx, p, need); err != nil {
			return out, fmt.Errorf("nothing was removed: restore point %s: %w", p.ID, err)
		}
	}
	return d.sweep(ctx, need, try)
}

// sweep removes the packs of which too little is needed.
func (d *Depot) sweep(ctx context.Context, need map[ID]bool, try bool) (out Pruned, err error) {
	stored, err := d.store.List(ctx, packs)
	if err != nil {
		return out, err
	}
	var idle []Stored
	var move []ID
	for _, s := range stored {
		live, whole, keep := d.share(s.Name, need)
		if whole > 0 && float64(live) >= sparse*float64(whole) {
			continue
		}
		if whole == 0 && !d.readable(s.Name) {
			continue // damaged; what it holds is not known
		}
		idle = append(idle, s)
		move = append(move, keep...)
		out.Packs++
		out.Bytes += s.Size
		if len(keep) > 0 {
			out.Repacked++
			out.Bytes -= s.Size * live / whole
		}
	}
	if try || len(idle) == 0 {
		return out, nil
	}
	if err := d.repack(ctx, move); err != nil {
		return Pruned{}, err
	}
	for _, s := range idle {
		if err := d.store.Remove(ctx, s.Name); err != nil {
			return out, err
		}
	}
	return out, d.load(ctx, true)
}

// share tells how much of a pack is needed, and which chunks are that have no
// other place.
func (d *Depot) share(pack string, need map[ID]bool) (live, whole int64, keep []ID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := slices.Index(d.packs, pack)
	if n < 0 {
		return 0, 0, nil
	}
	for _, b := range d.blocks[n] {
		for _, c := range b.Chunks {
			whole += int64(c.Size)
			if need[c.ID] && int(d.where[c.ID].pack) == n {
				live += int64(c.Size)
				keep = append(keep, c.ID)
			}
		}
	}
	return live, whole, keep
}

func (d *Depot) readable(pack string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := slices.Index(d.packs, pack)
	return n >= 0 && d.blocks[n] != nil
}

// repack stores chunks in new packs.
func (d *Depot) repack(ctx context.Context, ids []ID) error {
	p, err := newPacker(ctx, d.store, func(string, int64, []block) {})
	if err != nil {
		return err
	}
	for _, id := range ids {
		b, err := d.Read(ctx, id)
		if err == nil {
			err = p.add(id, b)
		}
		if err != nil {
			p.stop()
			return fmt.Errorf("nothing was removed: %w", err)
		}
	}
	return p.finish()
}

// Fault is a damage that was found, and whom it concerns.
type Fault struct {
	What   string   `json:"what"`
	Points []string `json:"points"`
}

// Verify reads every byte of the depot and checks it, then that every point
// finds what it needs. tell is told of bytes.
func (d *Depot) Verify(ctx context.Context, tell func(bytes int64)) (faults []Fault, err error) {
	unlock, err := d.store.Lock(ctx, false)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := d.load(ctx, true); err != nil {
		return nil, err
	}
	broken := map[ID]string{}
	err = d.damaged(ctx, tell, func(name string, _ []byte) error {
		faults = append(faults, Fault{What: name + " is not what it was"})
		d.suspect(ctx, name, broken)
		return nil
	})
	if err != nil {
		return nil, err
	}
	list, bad, err := d.Points(ctx)
	if err != nil {
		return nil, err
	}
	for _, err := range bad {
		faults = append(faults, Fault{What: err.Error()})
	}
	for _, p := range list {
		if err := d.whole(ctx, p, broken); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			faults = append(faults, Fault{What: err.Error(), Points: []string{p.ID}})
		}
	}
	return faults, nil
}

// damaged reads all packs and gives those that are not what they were.
func (d *Depot) damaged(ctx context.Context, tell func(bytes int64), give func(name string, data []byte) error) error {
	stored, err := d.store.List(ctx, packs)
	if err != nil {
		return err
	}
	for _, s := range stored {
		data, err := d.store.Get(ctx, s.Name, 0, -1)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		switch {
		case errors.Is(err, ErrDamaged): // it is encrypted, and can't be decrypted any more
			err = give(s.Name, nil)
		case err == nil && packName(data) != s.Name:
			err = give(s.Name, data)
		}
		if err != nil {
			return err
		}
		tell(s.Size)
	}
	return nil
}

// suspect notes which chunks of a damaged pack are lost, and gives all of its
// chunks.
func (d *Depot) suspect(ctx context.Context, pack string, broken map[ID]string) (ids []ID) {
	d.mu.Lock()
	for id, at := range d.where {
		if d.packs[at.pack] == pack {
			ids = append(ids, id)
		}
	}
	d.mu.Unlock()
	for _, id := range ids {
		if _, err := d.Read(ctx, id); err != nil {
			broken[id] = strings.TrimPrefix(err.Error(), ErrDamaged.Error()+": ")
		}
	}
	return ids
}

// whole tells what of a point is missing or broken.
func (d *Depot) whole(ctx context.Context, p Point, broken map[ID]string) error {
	need := map[ID]bool{}
	if err := d.needs(ctx, p, need); err != nil {
		return err
	}
	lost, first := 0, ""
	for id := range need {
		why, bad := broken[id]
		if !bad && d.Has(id) {
			continue
		}
		if lost++; first == "" {
			if first = why; first == "" {
				first = "chunk " + id.String() + " is missing"
			}
		}
	}
	if lost > 0 {
		return fmt.Errorf("%d of the %d pieces that it needs are lost: %s", lost, len(need), first)
	}
	return nil
}
