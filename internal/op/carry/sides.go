// Package carry brings changes from one side of a pair to the other: from a copy home to its live site, or from the
// live site to the copy. What changed is worked out from the common state of the two; rows are changed in one
// transaction in which each is looked at once more under its lock; and what was there before is kept, so that all of
// it can be undone without what others wrote since.
package carry

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/rewrite"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Sides are a live site and a copy of it, open to be read.
type Sides struct {
	drift.Pair
	env                *op.Env
	LiveSite, CopySite site.Site
	beside             bool              // they are two copies of one origin
	base               string            // the file with their common state
	hosts              []string          // of the addresses of both
	home               *rewrite.Rewriter // from the copy's addresses to the live site's
	values             *baseline.Values  // of the copy; nil: none were kept
	first              *baseline.Values  // of the first of two copies; nil: none
	people             *scrub.Scrubber   // nil: those of the copy are not made up, or those of its origin are too
	trees              drift.Trees
	livePlace          stack.Place
	roots              map[Side]host.Tree
	closers            []func()
}

// Drifted is what became of two sites since they parted.
type Drifted struct {
	Sides     [2]string         `json:"sides"` // what the two are called, the live one first
	Items     []*drift.Item     `json:"items"`
	Uncovered []drift.Uncovered `json:"uncovered,omitempty"`
}

// ErrNoDrift is given for a pair of which it can't be told what changed.
var ErrNoDrift = errors.New("what changed since they parted can't be told")

// Open opens both sides. title says whether the copy's title says that it is one, and filter what of the live site's
// files was not copied.
func Open(ctx context.Context, env *op.Env, live, copied site.Site, title bool, filter tree.Filter) (*Sides, error) {
	if live.Scrubbed && !copied.Scrubbed {
		return nil, fmt.Errorf("%w: the people of %s were made up since, and those of %s are real ones", ErrNoDrift,
			live.Name, copied.Name)
	}
	if copied.Database.Beside() {
		return nil, fmt.Errorf("%w: the tables of %s stand in its origin's own database", ErrNoDrift, copied.Name)
	}
	s := &Sides{env: env, LiveSite: live, CopySite: copied,
		base: filepath.Join(env.CopyDir(copied.Name), "now", "baseline.db")}
	if err := s.open(ctx, title, filter); err != nil {
		return nil, err
	}
	return s, nil
}

// open opens both sides with their common state.
func (s *Sides) open(ctx context.Context, title bool, filter tree.Filter) (err error) {
	env, live, copied := s.env, s.LiveSite, s.CopySite
	s.roots = map[Side]host.Tree{}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if s.Transform, err = env.Transform(live, copied, title); err != nil {
		return err
	}
	if s.beside {
		s.Transform.Scrub = nil // who is made up is so on both
	}
	if s.Transform.Declared, err = env.Declarations(); err != nil {
		return err
	}
	if err = s.openBase(); err != nil {
		return err
	}
	for _, a := range append(live.Facts.Addresses[:len(live.Facts.Addresses):len(live.Facts.Addresses)],
		copied.Address()) {
		s.hosts = append(s.hosts, a.HostPort())
	}
	if s.home, err = rewrite.New(back(op.Pairs(live.Facts.Addresses, copied.Address())),
		[]rewrite.PathPair{{From: copied.Root, To: live.Root}}); err != nil {
		return err
	}
	if err := s.openSides(ctx); err != nil {
		return err
	}
	s.trees = drift.Trees{Base: s.Base, Live: s.roots[Live], Copy: s.roots[Copy], LiveFilter: filter,
		CopyFilter: stack.DatabaseFilter(copied.Root, copied.Database)}
	if on, off := stack.CachesOf(s.Transform.Stack).ObjectCache(); on != "" { // each side has its own
		s.trees.CopyFilter.Folders = append(s.trees.CopyFilter.Folders, on, off)
	}
	s.Owns = s.Transform.Stack.Owns(s.Live.Schema(), live.Database.Prefix)
	var once sync.Once // where nothing differs nobody has to be known
	var learned error
	s.Ready = func(ctx context.Context) error {
		once.Do(func() { learned = s.Transform.Learn(ctx, s.Live) })
		return learned
	}
	return s.Transform.Select(ctx, s.Live)
}

// openBase opens what is kept of how both were, and is ready to tell whom the copy's made-up people stand for.
func (s *Sides) openBase() (err error) {
	copied := s.CopySite
	if s.Base, err = baseline.Open(s.base); err != nil {
		return fmt.Errorf("%w: %w", ErrNoDrift, err)
	}
	s.closers = append(s.closers, func() { s.Base.Close() })
	if v, err := baseline.OpenValues(s.env.ValuesOf(copied.Name), false); err == nil {
		s.values = v
		s.closers = append(s.closers, func() { v.Close() })
	} else if s.Transform.Scrub != nil && copied.Database.Engine != "" {
		return fmt.Errorf("%w: the people of %[2]s are made up, and what it was before that is not kept: from the "+
			"next refresh on it can be told (alibi refresh %[2]s)", ErrNoDrift, copied.Name)
	}
	if s.beside {
		if v, err := baseline.OpenValues(s.env.ValuesOf(s.LiveSite.Name), false); err == nil {
			s.first = v
			s.closers = append(s.closers, func() { v.Close() })
		}
	}
	if copied.Scrubbed && !s.LiveSite.Scrubbed {
		s.people = s.Transform.Scrub
		s.people.Return()
	}
	return nil
}

// openSides opens the files and tables of both.
func (s *Sides) openSides(ctx context.Context) error {
	for _, side := range []struct {
		of site.Site
		db site.Database
	}{{s.LiveSite, s.LiveSite.Database.From(s.CopySite.Database)}, {s.CopySite, s.CopySite.Database}} {
		place, err := s.env.Place(ctx, side.of.Host, side.of.Root)
		if err != nil {
			return err
		}
		s.closers = append(s.closers, func() { place.Root.Close() })
		snap := tables.None
		if side.db.Engine != "" {
			db, err := stack.OpenDatabase(ctx, s.Transform.Stack, place, side.db)
			if err != nil {
				return err
			}
			if snap, err = db.Snapshot(ctx); err != nil {
				return fmt.Errorf("reading the database of %s: %w", side.of.Name, err)
			}
		}
		s.closers = append(s.closers, func() { snap.Close() })
		snap = tables.ByDeclaredKey(snap)
		if side.of.ID == s.LiveSite.ID {
			s.Live, s.roots[Live], s.livePlace = snap, place.Root, place
		} else {
			s.Copy, s.roots[Copy] = snap, place.Root
		}
	}
	return nil
}

// back turns pairs of addresses round: what several addresses of a site became is its first one again.
func back(pairs []rewrite.Pair) (out []rewrite.Pair) {
	seen := map[string]bool{}
	for _, p := range pairs {
		if key := p.To.String(); !seen[key] {
			seen[key] = true
			out = append(out, rewrite.Pair{From: p.To, To: p.From})
		}
	}
	return out
}

// Close lets go of both.
func (s *Sides) Close() {
	for i := len(s.closers) - 1; i >= 0; i-- {
		s.closers[i]()
	}
	s.closers = nil
}

// Drift tells what became of both.
func (s *Sides) Drift(ctx context.Context) (Drifted, error) {
	var rows []*drift.Row
	var files []*drift.File
	var has map[string]drift.Has
	var not, untold []drift.Uncovered
	g, gctx := errgroup.WithContext(ctx)
	g.Go(func() (err error) {
		if rows, not, err = s.Rows(gctx); err == nil {
			err = s.findBases(gctx, rows)
			rows = slices.DeleteFunc(rows, func(r *drift.Row) bool { return r.Live == drift.Same && r.Copy == drift.Same })
		}
		return err
	})
	g.Go(func() (err error) {
		items := s.Transform.Items()
		files, has, untold, err = s.trees.Files(gctx, func(p string) string { return items.FileItem(p).Name })
		return err
	})
	if err := g.Wait(); err != nil {
		return Drifted{}, err
	}
	items, err := s.Items(ctx, rows, files, has)
	for _, it := range items {
		s.tellFiles(ctx, it)
		it.Merges = it.Clashes() && !it.HalfGone() && !slices.ContainsFunc(it.Rows, func(r *drift.Row) bool {
			if r.Paired != nil {
				return !r.PairedAlike()
			}
			if r.Passing || r.Live == drift.Same || r.Copy == drift.Same {
				return false
			}
			_, whole := merged(r, nil)
			return !whole
		}) && !slices.ContainsFunc(it.Files, func(f *drift.File) bool {
			if f.Live == drift.Same || f.Copy == drift.Same {
				return false
			}
			_, whole := s.mergedFile(ctx, f, nil)
			return !whole
		})
	}
	for _, it := range items {
		it.KeepsBoth = it.Clashes() && !it.Merges && !it.Noise && s.keepsBoth(ctx, it)
	}
	s.remind(items)
	return Drifted{[2]string{s.called(Live), s.called(Copy)}, items, append(not, untold...)}, err
}
