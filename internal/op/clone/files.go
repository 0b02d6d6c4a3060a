package clone

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// files brings what the origin has, taking from the copy as it stands what did
// not change on either side.
func (x *runner) files(ctx context.Context, t *work.Task) error {
	origin, dst, closeBoth, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer closeBoth()
	if x.mem.Looked.IsZero() {
		t.Memorize(func() { x.mem.Looked = x.env.Now() })
	}
	st, err := x.env.Stack(x.p.Origin.Stack)
	if err != nil {
		return err
	}
	list, err := tree.Scan(ctx, origin.Root, Filter(st, x.d.Filter))
	if err != nil {
		return fmt.Errorf("listing the origin's files: %w", err)
	}
	if t.Run().Tries > 1 {
		if err := x.sweep(ctx, dst, list.Entries); err != nil {
			return err
		}
	}
	tell := func(bytes int64, files int) { t.Add(bytes, int64(files)) }
	now, later := x.later(list.Entries)
	_, total := (&tree.Listing{Entries: now}).Totals()
	t.Expect(total)
	kept, fetch, err := x.unchanged(ctx, dst, now, tell)
	if err != nil {
		return err
	}
	if files := countFiles(list.Entries); files < x.p.Files/2 && x.p.Files > 20 {
		return fmt.Errorf(
			"bringing the files: the origin has %d of the %d files that were planned: %w; see whether it is being "+
				"moved, and resume the run when they are back",
			files,
			x.p.Files,
			tree.ErrVanish,
		)
	}
	got, problems, err := tree.Duplicate(ctx, origin.Root, dst, fetch, tell)
	if err != nil {
		return err
	}
	if got, problems, err = again(ctx, origin.Root, dst, list.Entries, got, problems, tell); err != nil {
		return err
	}
	list.Problems = append(list.Problems, problems...)
	if err := x.tellFiles(ctx, t, list, len(kept), countFiles(got)); err != nil {
		return err
	}
	return x.noteFiles(ctx, append(kept, got...), later)
}

// sweep removes what an earlier try of the run brought and the origin does not have any more.
func (x *runner) sweep(ctx context.Context, dst host.Root, entries []tree.Entry) error {
	wanted := make(map[string]bool, len(entries))
	for _, e := range entries {
		wanted[e.Path] = true
	}
	there, err := tree.Scan(ctx, dst, stack.DatabaseFilter(x.p.Target.Root, x.p.Target.Database))
	if err != nil {
		return fmt.Errorf("looking at what was brought before: %w", err)
	}
	if err := there.Sweep(dst); err != nil {
		return err
	}
	for _, e := range slices.Backward(there.Entries) { // what is in a folder comes behind it
		if wanted[e.Path] {
			continue
		}
		if err := dst.Remove(e.Path); err != nil && !e.Mode.IsDir() { // the database may be in a folder
			return fmt.Errorf("removing what was brought before: %w", err)
		}
	}
	return nil
}

// Filter completes what a plan passes by: the file that would have the copy use a cache of the live
// site's is never brought, also where it came after the plan; files of the core are, whatever their size.
func Filter(st stack.Stack, f tree.Filter) tree.Filter {
	if on, _ := stack.CachesOf(st).ObjectCache(); on != "" {
		f.Folders = append(slices.Clone(f.Folders), on)
	}
	f.Whole = stack.ComponentsOf(st).CoreFile
	return f
}

// again looks once more at files that were gone when they were to be copied: one
// that is replaced is away for a moment. Where many stay away the origin is being
// moved or removed, and nothing that is made of the rest would be a copy of it.
func again(
	ctx context.Context,
	src host.Tree, dst host.Root,
	entries, got []tree.Entry,
	problems []tree.Problem,
	tell tree.Progress,
) ([]tree.Entry, []tree.Problem, error) {
	byPath := map[string]tree.Entry{}
	for _, e := range entries {
		byPath[e.Path] = e
	}
	var back []tree.Entry
	var stay []tree.Problem
	var gone []string
	for _, p := range problems {
		e, known := byPath[p.Path]
		fi, err := src.Lstat(p.Path)
		switch {
		case p.Kind != "gone" || !known:
			stay = append(stay, p)
		case err != nil:
			gone = append(gone, p.Path)
			stay = append(stay, p)
		default:
			back = append(back, e.Seen(fi))
		}
	}
	if tree.Vanished(len(gone), len(entries)) {
		return nil, nil, fmt.Errorf(
			"bringing the files: %d of %d, the first: %s: %w; see whether the origin is being moved, and resume the "+
				"run when they are back",
			len(gone),
			len(entries),
			gone[0],
			tree.ErrVanish,
		)
	}
	if len(back) == 0 {
		return got, stay, nil
	}
	more, bad, err := tree.Duplicate(ctx, src, dst, back, tell)
	return append(got, more...), append(stay, bad...), err
}

// leftOut says in the copy's history what it does without.
func (x *runner) leftOut(ctx context.Context, format string, a ...any) error {
	return x.env.Log(ctx, x.p.Target.Owner, x.p.Target.ID, "left-out", format, a...)
}

// tellFiles says what became of the files: what was the same, and what was left
// out for its size or because it can't be copied, by name, in the history.
func (x *runner) tellFiles(ctx context.Context, t *work.Task, list *tree.Listing, kept, got int) error {
	note := ""
	if x.p.Kind == plan.Refresh {
		note = fmt.Sprintf("%d files brought again, %d were the same", got, kept)
	}
	if n := len(list.TooLarge); n > 0 {
		var names []string
		for _, e := range list.TooLarge[:min(n, 20)] {
			names = append(names, e.Path+" ("+site.Size(e.Size)+")")
		}
		left := site.Plural(n, "file", "files") + " left out for size"
		if err := x.leftOut(ctx, "%s: %s", left, strings.Join(names, ", ")); err != nil {
			return err
		}
		note = strings.TrimPrefix(note+"; "+left, "; ")
	}
	if n := len(list.Problems); n > 0 {
		if err := x.leftOut(ctx, "%s left out: %s", site.Plural(n, "entry", "entries"),
			named(list.Problems)); err != nil {
			return err
		}
	}
	if note != "" {
		t.Note("%s", note)
	}
	return nil
}

// named names the first of what is not brought, and why.
func named(list []tree.Problem) string {
	var names []string
	for _, p := range list[:min(len(list), 20)] {
		names = append(names, p.Path+" ("+p.What+")")
	}
	return strings.Join(names, ", ")
}

func countFiles(entries []tree.Entry) int {
	n, _ := (&tree.Listing{Entries: entries}).Totals()
	return n
}

// noteFiles puts the files into the baseline: of those that the system copied the digests are found when the copy is
// compared. Of those that come later only what they are on the origin is noted.
func (x *runner) noteFiles(ctx context.Context, entries, later []tree.Entry) error {
	b, err := baseline.Open(x.at("next", "baseline.db"))
	if err != nil {
		return err
	}
	defer b.Close()
	var files []baseline.File
	for _, e := range entries {
		f := brought(x.p.Origin.Root, e)
		f.Copy.Changed = x.kept[e.Path]
		files = append(files, f)
	}
	for _, e := range later {
		files = append(files, baseline.File{Origin: e})
	}
	return b.PutFiles(ctx, files)
}

// brought is how a file of an origin in the folder root is noted that was brought to the copy.
func brought(root string, e tree.Entry) baseline.File {
	c := e
	c.Owner, c.Changed = nil, time.Time{} // what they are is seen when the copy is compared
	c.Mode = c.Mode.Type() | tree.OnCopy(c.Mode)
	if e.Link != "" {
		c.Link = tree.RelativeLink(root, e.Path, e.Link)
	}
	return baseline.File{Origin: e, Copy: c}
}
