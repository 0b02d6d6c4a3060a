package depot

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
)

// damaged is where packs that are go: nothing is read from there.
const damaged = "damaged/"

// Mended is what a mending did.
type Mended struct {
	Packs []string `json:"packs"` // that were set aside
	Saved int      `json:"saved"` // chunks of theirs that were whole, and are kept elsewhere now
	Lost  int      `json:"lost"`  // chunks that were not
}

// Mend sets damaged packs aside, and keeps what is whole of them elsewhere. What
// is lost is missing from then on, so that the next restore point that has it
// stores it anew, which makes earlier points whole again.
func (d *Depot) Mend(ctx context.Context) (out Mended, err error) {
	unlock, err := d.store.Lock(ctx, true)
	if err != nil {
		return out, err
	}
	defer unlock()
	if err := d.load(ctx, true); err != nil {
		return out, err
	}
	stored, err := d.store.List(ctx, packs)
	if err != nil {
		return out, err
	}
	for _, s := range stored {
		data, err := d.store.Get(ctx, s.Name, 0, -1)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return out, err
		}
		if packName(data) == s.Name {
			continue
		}
		broken := map[ID]string{}
		all := d.suspect(ctx, s.Name, broken)
		var whole []ID
		for _, id := range all {
			if _, bad := broken[id]; !bad {
				whole = append(whole, id)
			}
		}
		if err := d.repack(ctx, whole); err != nil {
			return out, err
		}
		if err := d.store.Put(ctx, damaged+path.Base(s.Name), data); err != nil {
			return out, fmt.Errorf("setting %s aside: %w", s.Name, err)
		}
		if err := d.store.Remove(ctx, s.Name); err != nil {
			return out, err
		}
		out.Packs = append(out.Packs, s.Name)
		out.Saved, out.Lost = out.Saved+len(whole), out.Lost+len(broken)
	}
	return out, d.load(ctx, true)
}
