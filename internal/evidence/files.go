package evidence

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// proveFiles compares every file of the copy with what was read from the origin.
func proveFiles(ctx context.Context, in *Input, rep *Report, origin, copied stack.Place) error {
	base, err := in.Baseline.Files(ctx)
	if err != nil {
		return err
	}
	now, err := tree.Scan(ctx, copied.Root, stack.DatabaseFilter(in.Copy.Root, in.Copy.Database))
	if err != nil {
		return err
	}
	tell := func(_ int64, files int) {
		if in.Tell != nil {
			in.Tell(0, files)
		}
	}
	texts := &textWork{in: in}
	if err := tree.Digest(ctx, copied.Root, unknown(in, now.Entries, base), texts.look(), tell); err != nil {
		return err
	}
	there, err := tree.Scan(ctx, origin.Root, in.Filter)
	if err != nil {
		return fmt.Errorf("listing the origin: %w", err)
	}
	w := &fileWork{rep: rep, base: base, there: map[string]tree.Entry{}}
	for _, e := range there.Entries {
		if !e.Mode.IsDir() {
			w.there[e.Path] = e
		}
	}
	onOrigin := len(w.there)
	for _, e := range now.Entries {
		if !e.Mode.IsDir() {
			w.file(e)
		}
	}
	w.missing()
	rep.Checks = append(rep.Checks, w.check(onOrigin, in.Fresh))
	if !in.CountOnly {
		rep.Checks = append(rep.Checks, texts.check())
	}
	return nil
}

// unknown gives the entries that must be read. When changes are only counted,
// a file that looks as it did is taken to be the same.
func unknown(in *Input, entries []tree.Entry, base map[string]baseline.File) []tree.Entry {
	if !in.CountOnly {
		return entries
	}
	same := 0
	for i, e := range entries {
		if b, known := base[e.Path]; known && e.Same(b.Copy) {
			entries[i].Hash = b.Copy.Hash
			entries[same], entries[i] = entries[i], entries[same]
			same++
		}
	}
	return entries[same:]
}

// fileWork compares the files of both sides with the baseline.
type fileWork struct {
	rep     *Report
	base    map[string]baseline.File // what is not accounted for yet
	there   map[string]tree.Entry    // on the origin now, not accounted for yet
	spoiled places                   // not as they were written to the copy
	own     places                   // written for the copy, and as they were
	moved   int                      // changed on the origin
}

// file judges one file of the copy.
func (w *fileWork) file(e tree.Entry) {
	w.rep.Files++
	b, known := w.base[e.Path]
	delete(w.base, e.Path)
	o, has := w.there[e.Path]
	delete(w.there, e.Path)
	moved := has != (b.Origin.Path != "") || has && !o.Same(b.Origin)
	if moved {
		w.moved++
	}
	switch {
	case !known || e.Hash != b.Copy.Hash || e.Link != b.Copy.Link || e.Mode.Type() != b.Copy.Mode.Type():
		w.rep.Apart.Copy++
		if moved {
			w.rep.Apart.Clashes++
		}
		w.spoiled.add("%s %s", e.Path, map[bool]string{true: "is different", false: "is not on the origin"}[known])
	case b.Own:
		w.own.add("%s", e.Path)
	case b.Origin.Link == "" && b.Origin.Hash != b.Copy.Hash:
		w.spoiled.add("%s was not copied as it was read", e.Path)
	}
}

// missing accounts for what only the baseline or the origin has.
func (w *fileWork) missing() {
	for _, p := range slices.Sorted(maps.Keys(w.base)) {
		if w.base[p].Copy.Path != "" {
			delete(w.there, p)
			w.rep.Apart.Copy++
			w.spoiled.add("%s is missing", p)
		}
	}
	w.moved += len(w.there)
	w.rep.Apart.Origin += w.moved
}

func (w *fileWork) check(onOrigin int, fresh bool) Check {
	c := Check{Name: "files", Group: "files", Title: "files, by BLAKE3 digest", Origin: site.Number(onOrigin), Copy: site.Number(w.rep.Files), Verdict: Holds, Where: w.spoiled.where, Number: w.spoiled.n}
	switch {
	case w.spoiled.n > 0 && fresh:
		c.Verdict, c.Text = Broken, fmt.Sprintf("%d are not what they should be", w.spoiled.n)
	case w.spoiled.n > 0 || w.moved > 0 && !fresh:
		c.Verdict, c.Text = Changed, fmt.Sprintf("since they parted %d changed on the origin, %d on the copy", w.moved, w.spoiled.n)
	case w.moved > 0:
		c.Verdict, c.Text = Noted, fmt.Sprintf("%d changed on the origin during the run", w.moved)
	case w.own.n > 0:
		c.Text = fmt.Sprintf("%d of them written for the copy: %s", w.own.n, strings.Join(w.own.where, ", "))
	}
	return c
}

// textual are the endings of files in which an address matters.
var textual = map[string]bool{".css": true, ".js": true, ".html": true, ".htm": true, ".json": true, ".xml": true, ".txt": true, ".php": true, ".svg": true, ".map": true}

// largestText is from which size on a file is not looked into for addresses.
const largestText = 2 << 20

// textWork looks for addresses of the origin in the copy's files.
type textWork struct {
	in     *Input
	mu     sync.Mutex
	found  places
	looked int
}

func (w *textWork) look() *tree.Look {
	if w.in.CountOnly {
		return nil
	}
	return &tree.Look{Want: func(e tree.Entry) bool {
		return textual[strings.ToLower(path.Ext(e.Path))] && e.Size <= largestText
	}, Text: func(e tree.Entry, text []byte) {
		_, n, _ := w.in.Transform.Change.Rewriter.Value(bytes.TrimSpace(text), rewrite.Prose)
		w.mu.Lock()
		defer w.mu.Unlock()
		w.looked++
		if n > 0 {
			w.found.add("%s (%d)", e.Path, n)
		}
	}}
}

func (w *textWork) check() Check {
	slices.Sort(w.found.where)
	c := judged("addresses in files", "addresses", "addresses of the origin left in files", fmt.Sprintf("%d texts looked at", w.looked), w.found, Noted)
	if w.found.n > 0 {
		c.Text = "files are copied byte for byte; these lead to the origin"
	}
	return c
}
