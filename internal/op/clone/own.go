package clone

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/tree"
)

// writeOwn writes the files that are the copy's own and gives their digests.
func writeOwn(ctx context.Context, dst host.Root, own map[string][]byte) (map[string]tree.Hash, error) {
	out := map[string]tree.Hash{}
	for name, text := range own {
		if err := host.MkdirAll(dst, path.Dir(name), 0o755); err != nil {
			return nil, err
		}
		if _, err := host.Put(dst, name, 0o600, time.Time{}, bytes.NewReader(text)); err != nil {
			return nil, fmt.Errorf("writing %s: %w", name, err)
		}
		out[name] = tree.Hash(blake3.Sum256(text))
	}
	return out, ctx.Err()
}

// brought gives the files that came from the origin.
func (x *runner) brought(ctx context.Context, want func(path string) bool) ([]string, error) {
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return nil, err
	}
	defer b.Close()
	return b.Brought(ctx, want)
}

// noteOwn puts the copy's own files into the baseline.
func (x *runner) noteOwn(ctx context.Context, dst host.Root, own map[string][]byte) error {
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	files, err := b.Files(ctx, slices.Collect(maps.Keys(own))...)
	if err != nil {
		return err
	}
	for name := range own {
		fi, err := dst.Lstat(name)
		if err != nil {
			return err
		}
		f := files[name]
		f.Own = true
		f.Copy = tree.Entry{Path: name, Hash: x.mem.Configured[name]}.Seen(fi)
		files[name] = f
	}
	return b.ChangeFiles(ctx, slices.Collect(maps.Values(files)))
}
