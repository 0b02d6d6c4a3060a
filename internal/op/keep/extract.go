package keep

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"alibi/internal/depot/pointhost"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/tree"
)

// Extract brings a file or folder of a restore point to a new place on this
// machine: whole, or not at all.
func Extract(ctx context.Context, p *pointhost.Host, what, to string) (files int, bytes int64, err error) {
	src, err := p.Open(ctx, p.Point().Site.Root)
	if err != nil {
		return 0, 0, err
	}
	if what, err = host.Clean(what); err != nil {
		return 0, 0, err
	}
	fi, err := src.Lstat(what)
	if err != nil {
		return 0, 0, err
	}
	list, err := tree.Scan(ctx, src, tree.Filter{})
	if err != nil {
		return 0, 0, err
	}
	var chosen []tree.Entry
	for _, e := range list.Entries {
		if what == "." || e.Path == what || strings.HasPrefix(e.Path, what+"/") ||
			e.Mode.IsDir() && strings.HasPrefix(what+"/", e.Path+"/") {
			chosen = append(chosen, e)
		}
	}
	temp, err := os.MkdirTemp(filepath.Dir(to), ".alibi-extract-")
	if err != nil {
		return 0, 0, fmt.Errorf("making room for what is extracted: %w", err)
	}
	defer os.RemoveAll(temp)
	dst, err := local.New("here").Write(ctx, temp)
	if err != nil {
		return 0, 0, err
	}
	defer dst.Close()
	got, problems, err := tree.Copy(ctx, src, dst, chosen, func(int64, int) {})
	if err != nil {
		return 0, 0, err
	}
	if len(problems) > 0 {
		return 0, 0, fmt.Errorf("%s: %s; nothing was written", problems[0].Path, problems[0].What)
	}
	from := filepath.Join(temp, filepath.FromSlash(what))
	if fi.IsDir() && what == "." {
		err = os.Chmod(temp, 0o755)
	}
	if err = errors.Join(err, os.Rename(from, to)); err != nil {
		return 0, 0, fmt.Errorf("putting %s in its place: %w", path.Base(to), err)
	}
	files, bytes = (&tree.Listing{Entries: got}).Totals()
	return files, bytes, nil
}
