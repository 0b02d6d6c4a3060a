package depot

import (
	"context"
	"fmt"
	"path"
)

// setAside is where damaged packs go: nothing is read from there.
const setAside = "damaged/"

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
	err = d.damaged(ctx, func(int64) {}, func(name string, data []byte) error {
		broken := map[ID]string{}
		var whole []ID
		for _, id := range d.suspect(ctx, name, broken) {
			if _, bad := broken[id]; !bad {
				whole = append(whole, id)
			}
		}
		if err := d.repack(ctx, whole); err != nil {
			return err
		}
		if data != nil { // else it can't even be decrypted
			if err := d.store.Put(ctx, setAside+path.Base(name), data); err != nil {
				return fmt.Errorf("setting %s aside: %w", name, err)
			}
		}
		if err := d.store.Remove(ctx, name); err != nil {
			return err
		}
		out.Packs = append(out.Packs, name)
		out.Saved, out.Lost = out.Saved+len(whole), out.Lost+len(broken)
		return nil
	})
	if err != nil {
		return out, err
	}
	return out, d.load(ctx, true)
}
