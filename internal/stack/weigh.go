package stack

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"alibi/internal/site"
	"alibi/internal/tree"
)

// Measured is the size of a tree, and what is odd in it.
type Measured struct {
	list    *tree.Listing
	folders []site.Folder
	large   []tree.Entry
	sized   []tree.Entry // that may be left out for their size
	files   int
	bytes   int64
}

// Measure lists the tree and adds up its folders to the given depth. spare says
// why a path need not be copied, or "". The database's own files don't count.
func Measure(ctx context.Context, p Place, db site.Database, depth int, spare func(string) string) (*Measured, error) {
	list, err := tree.Scan(ctx, p.Root, DatabaseFilter(p.Root.Path(), db))
	if err != nil {
		return nil, fmt.Errorf("listing the site's files: %w", err)
	}
	w := &Measured{list: list}
	sums := map[string]*site.Folder{}
	for _, e := range list.Entries {
		if e.Mode.IsDir() {
			continue
		}
		w.files++
		w.bytes += e.Size
		if e.Size > Largest {
			w.large = append(w.large, e)
		}
		name, why := group(e.Path, depth, spare)
		if e.Size > site.Sized && why == "" {
			w.sized = append(w.sized, e)
		}
		s := sums[name]
		if s == nil {
			s = &site.Folder{Path: name, Spare: why}
			sums[name] = s
		}
		s.Files++
		s.Bytes += e.Size
	}
	for _, s := range sums {
		w.folders = append(w.folders, *s)
	}
	slices.SortFunc(w.folders, func(a, b site.Folder) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), strings.Compare(a.Path, b.Path))
	})
	return w, nil
}

// Below adds up the files below a folder, without those below others.
func (w *Measured) Below(dir string, without ...string) (files int, bytes int64) {
	in := func(name, dir string) bool { return strings.HasPrefix(name, dir+"/") }
	for _, e := range w.list.Entries {
		if !e.Mode.IsDir() && in(e.Path, dir) &&
			!slices.ContainsFunc(without, func(other string) bool { return in(e.Path, other) }) {
			files, bytes = files+1, bytes+e.Size
		}
	}
	return files, bytes
}

// group is the folder that a file is counted in: the first part of its path
// that can be spared, else its first parts up to depth.
func group(name string, depth int, spare func(string) string) (string, string) {
	parts := strings.Split(name, "/")
	for i := range parts {
		p := strings.Join(parts[:i+1], "/")
		if why := spare(p); why != "" {
			return p, why
		}
	}
	if len(parts) <= depth {
		return path.Dir(name), ""
	}
	return strings.Join(parts[:depth], "/"), ""
}

// SpareByName knows logs and archives by their endings.
func SpareByName(name string) string {
	base := strings.ToLower(path.Base(name))
	switch {
	case strings.HasSuffix(base, ".log"):
		return "log"
	case strings.HasSuffix(base, ".sql"),
		strings.HasSuffix(base, ".sql.gz"),
		strings.HasSuffix(base, ".tar.gz"),
		strings.HasSuffix(base, ".tgz"),
		strings.HasSuffix(base, ".bak"):
		return "archive"
	}
	return ""
}

// DatabaseFilter passes by the files of a database that lies inside the root, and
// the file that says that the site is being worked on just now.
func DatabaseFilter(root string, db site.Database) tree.Filter {
	rel, ok := Inside(root, db.Path)
	if !db.InFile() || !ok {
		return tree.Filter{Folders: []string{".maintenance"}}
	}
	return tree.Filter{Folders: []string{".maintenance", rel, rel + "-wal", rel + "-shm", rel + "-journal"}}
}

// Tell puts the sizes into facts, with findings. whole tells of files that are never left out for their
// size; nil: none.
func (w *Measured) Tell(f *site.Facts, whole func(path string) bool) {
	f.Folders, f.Files, f.Bytes = w.folders, w.files, w.bytes
	for _, e := range w.sized {
		if whole == nil || !whole(e.Path) {
			f.Sizes = append(f.Sizes, e.Size)
		}
	}
	slices.SortFunc(f.Sizes, func(a, b int64) int { return cmp.Compare(b, a) })
	f.Sizes = f.Sizes[:min(len(f.Sizes), site.SizesKept)]
	add := func(sev site.Severity, code, text, remedy string) {
		f.Findings = append(f.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	if n := len(w.large); n > 0 {
		slices.SortFunc(w.large, func(a, b tree.Entry) int { return cmp.Compare(b.Size, a.Size) })
		add(site.Warn, "large-file", fmt.Sprintf("%s larger than %s: %s (%s)", site.Plural(n, "file is", "files are"),
			site.Size(Largest), w.large[0].Path, site.Size(w.large[0].Size)), "leave out files above a size")
	}
	byKind := map[string][]tree.Problem{}
	for _, p := range w.list.Problems {
		byKind[p.Kind] = append(byKind[p.Kind], p)
	}
	for kind, words := range map[string][3]string{
		"link-out":   {"link leads", "links lead", "out of the site's folder"},
		"unreadable": {"entry", "entries", "can't be read by us"},
		"special":    {"entry is", "entries are", "no file: a device, pipe or socket"},
	} {
		if ps := byKind[kind]; len(ps) > 0 {
			sev, remedy := site.Warn, "it is left out of copies; bring it into the folder if a copy needs it"
			if kind == "unreadable" {
				remedy = "let the account that Alibi signs in with read it, or go without"
			}
			add(sev, kind, fmt.Sprintf("%s %s: %s", site.Plural(len(ps), words[0], words[1]), words[2], ps[0].Path),
				remedy)
		}
	}
}
