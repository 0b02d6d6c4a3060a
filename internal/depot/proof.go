package depot

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"
)

// Proof is what came of restoring a point into a copy and comparing that with
// the point.
type Proof struct {
	At    time.Time `json:"at"`
	Holds bool      `json:"holds"`
	Text  string    `json:"text"`
}

const proofs = "proofs/"

// PutProof keeps the latest proof of a point.
func (d *Depot) PutProof(ctx context.Context, id string, p Proof) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return d.store.Put(ctx, proofs+id+".json", append(text, '\n'))
}

// Proof reads the latest proof of a point; a zero time: it was never tried.
func (d *Depot) Proof(ctx context.Context, id string) (p Proof, err error) {
	text, err := d.store.Get(ctx, proofs+id+".json", 0, -1)
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err == nil {
		if err = json.Unmarshal(text, &p); err != nil {
			err = fmt.Errorf("%w: the proof of %s: %w", ErrDamaged, id, err)
		}
	}
	return p, err
}
