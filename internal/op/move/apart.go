package move

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// ErrOne is given where the two places of a move are one, or one is in the other.
var ErrOne = errors.New("the two places are one")

// apart sees that what is written or removed at the other place does not meet the site: a host may be in the record by
// two names, a name of a host may lead elsewhere than it did, and a configuration may name the site's own database.
func (x *runner) apart(ctx context.Context, m plan.Move, here, there site.Site) error {
	if err := x.foldersApart(ctx, here, there); err != nil {
		return err
	}
	if !here.Database.Served() || !there.Database.Served() || !m.Own && len(m.Passes) == 0 {
		return nil
	}
	one, err := oneDatabase(ctx, x.env, here, there)
	if err != nil || !one {
		return err
	}
	return fmt.Errorf("%w: the configuration in %s on %s names the database of %s itself; nothing was changed: have it "+
		"name another one, then go on", ErrOne, there.Root, there.Host, here.Name)
}

// foldersApart looks for a file that was put into one folder in the other one.
func (x *runner) foldersApart(ctx context.Context, here, there site.Site) error {
	if Contains(here, there) || Contains(there, here) {
		return fmt.Errorf("%w: %s is a part of the place where %s stands; nothing was changed: begin a move to another "+
			"folder", ErrOne, there.Root, here.Name)
	}
	root, err := x.env.Write(ctx, x.run, there, there.Root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing can be removed there
	}
	if err != nil {
		return err
	}
	defer root.Close()
	mark := host.TempName("mark")
	f, err := root.Create(mark, 0o644)
	if err != nil {
		return fmt.Errorf("writing to %s on %s: %w", there.Root, there.Host, err)
	}
	err = f.Close()
	if err == nil {
		err = x.seen(ctx, here, there, mark)
	}
	return errors.Join(err, root.Remove(mark))
}

// seen gives ErrOne if the host of the site sees a file of the other place in the site's folder, or where that place is
// on a machine on which one is in the other.
func (x *runner) seen(ctx context.Context, here, there site.Site, mark string) error {
	h, err := x.env.Host(ctx, here.Host)
	if err != nil {
		return err
	}
	for _, dir := range []string{here.Root, there.Root} {
		at := there
		at.Host, at.Root = here.Host, dir
		if !Contains(here, at) && !Contains(at, here) {
			continue
		}
		root, err := h.Open(ctx, dir)
		if err == nil {
			_, err = root.Lstat(mark)
			root.Close()
		}
		switch {
		case err == nil:
			return fmt.Errorf("%w: %s on %s is where %s stands, or a part of that: both hosts are one machine; nothing was "+
				"changed: forget the move, and begin one to another folder", ErrOne, there.Root, there.Host, here.Name)
		case dir == here.Root && !errors.Is(err, fs.ErrNotExist):
			return err
		}
	}
	return nil
}

// between is how many statements others may have put to a server while it is asked three times.
const between = 100_000

// oneDatabase tells whether two sites' databases are one. A server tells itself apart by where it is and by how many
// statements it was asked: when it is asked for one site between two times for the other, its count stands between.
func oneDatabase(ctx context.Context, env *op.Env, a, b site.Site) (bool, error) {
	if a.Database.Name != b.Database.Name {
		return false, nil
	}
	var asked [3]int64
	var where [3]string
	for i, s := range []site.Site{a, b, a} {
		var err error
		if where[i], asked[i], err = env.Self(ctx, s); err != nil {
			return false, err
		}
	}
	return where[0] == where[1] && asked[0] < asked[1] && asked[1] < asked[2] && asked[2]-asked[0] < between, nil
}
