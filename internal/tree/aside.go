package tree

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"time"

	"alibi/internal/host"
)

// A portion is what a host copies by itself at one call: if the connection
// breaks it goes on to the portion's end without anyone to stop it.
const (
	portionFiles = 1000
	portionBytes = 64 << 20
)

// aside has a host copy files from one of its folders to another by itself;
// here they are only read, for their digests. It tells whether the host can do
// that, and gives the files that came over as they were read.
func aside(ctx context.Context, src host.Tree, dst host.Root, list []Entry, progress Progress) (map[string]Entry, bool,
	error) {
	sib, ok := dst.(host.Sibling)
	if !ok {
		return nil, false, nil
	}
	for _, names := range portions(list) {
		if err := host.Patience(ctx, src, dst); err != nil {
			return nil, true, err
		}
		can, err := sib.TakeFrom(ctx, src, names)
		if !can || err != nil {
			return nil, can, err
		}
	}
	read := slices.Clone(list)
	if err := Digest(ctx, src, read, nil, progress); err != nil {
		return nil, true, err
	}
	there, err := Scan(ctx, dst, Filter{})
	if err != nil {
		return nil, true, err
	}
	copied := make(map[string]Entry, len(there.Entries))
	for _, e := range there.Entries {
		copied[e.Path] = e
	}
	out := make(map[string]Entry, len(read))
	for _, r := range read {
		switch c := copied[r.Path]; {
		case r.Hash == Hash{}: // it is gone, or was cut while it was read
		case c.Regular() && c.Size == r.Size && c.MTime.Truncate(time.Second).Equal(r.MTime.Truncate(time.Second)):
			out[r.Path] = r
		default: // it changed between the two; it is copied by itself
			progress(-r.Size, -1)
			if err := dst.Remove(r.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, true, err
			}
		}
	}
	return out, true, nil
}

func portions(list []Entry) (out [][]string) {
	var now []string
	var size int64
	for _, e := range list {
		if len(now) > 0 && (len(now) == portionFiles || size+e.Size > portionBytes) {
			out = append(out, now)
			now, size = nil, 0
		}
		now, size = append(now, e.Path), size+e.Size
	}
	return append(out, now)
}
