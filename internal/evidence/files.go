package evidence

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/evidence/needles"
	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// proveFiles compares every file and folder of the copy with what was read from the origin.
func proveFiles(ctx context.Context, in *Input, rep *Report, origin, copied stack.Place) error {
	w := &fileWork{in: in, rep: rep, root: copied.Root, there: map[string]tree.Entry{}, read: map[string]baseline.File{},
		problems: map[string]tree.Problem{}}
	var err error
	if w.base, err = in.Baseline.Files(ctx); err != nil {
		return err
	}
	if w.folders, err = in.Baseline.Folders(ctx); err != nil {
		return err
	}
	var now *tree.Listing
	if in.Opened != nil {
		now = in.Opened.files
		w.was = byPath(now.Entries) // as they were then: they are read now
	} else if now, err = tree.Scan(ctx, copied.Root, stack.DatabaseFilter(in.Copy.Root, in.Copy.Database)); err != nil {
		return err
	}
	for _, p := range now.Problems {
		w.problems[p.Path] = p
	}
	tell := func(_ int64, files int) {
		if in.Tell != nil {
			in.Tell(0, files)
		}
	}
	texts, err := newTextWork(ctx, in, origin)
	if err != nil {
		return err
	}
	if err := in.digest(ctx, copied, unknown(in, now.Entries, w.base), texts.look(), tell); err != nil {
		return err
	}
	onOrigin, err := w.origin(ctx, origin, now.Entries)
	if err != nil {
		return err
	}
	w.compare(now.Entries)
	if len(w.read) > 0 || len(w.seen) > 0 && !in.Fresh {
		for _, f := range w.seen {
			w.read[cmp.Or(f.Origin.Path, f.Copy.Path)] = f
		}
		if err := in.Baseline.ChangeFiles(ctx, slices.Collect(maps.Values(w.read))); err != nil {
			return err
		}
	} else {
		rep.found.Files = w.seen
	}
	rep.Checks = append(rep.Checks, w.check(onOrigin, in.Fresh))
	if !in.CountOnly {
		rep.Checks = append(rep.Checks, texts.checks()...)
	}
	return nil
}

// digest reads files of the copy: texts here, where they are looked into, and others on the copy's host, if that can
// be.
func (in *Input) digest(ctx context.Context, copied stack.Place, list []tree.Entry, look *tree.Look,
	tell tree.Progress) error {
	var there, here []tree.Entry
	var at [2][]int
	for i, e := range list {
		switch {
		case !e.Regular():
		case e.Textual():
			here, at[0] = append(here, e), append(at[0], i)
		default:
			there, at[1] = append(there, e), append(at[1], i)
		}
	}
	done, err := in.Env.Digest(ctx, in.Copy, copied.Root.Path(), there, tell)
	if err != nil {
		return err
	}
	if !done {
		return tree.Digest(ctx, copied.Root, list, look, tell)
	}
	if err := tree.Digest(ctx, copied.Root, here, look, tell); err != nil {
		return err
	}
	for k, part := range [][]tree.Entry{here, there} {
		for j, e := range part {
			list[at[k][j]] = e
		}
	}
	return nil
}

func byPath(entries []tree.Entry) map[string]tree.Entry {
	out := make(map[string]tree.Entry, len(entries))
	for _, e := range entries {
		out[e.Path] = e
	}
	return out
}

// unknown puts the entries that must be read behind the others, and gives them. When changes are only
// counted, a file that nobody touched is taken to be the same; and so is one that a refresh kept of which the system
// says so, but for texts, which are looked into.
func unknown(in *Input, entries []tree.Entry, base map[string]baseline.File) []tree.Entry {
	if !in.CountOnly && !in.Kept {
		return entries
	}
	same := 0
	for i, e := range entries {
		b, known := base[e.Path]
		sure := in.CountOnly || !e.Textual() && !b.Copy.Changed.IsZero() && !e.Changed.IsZero()
		if known && sure && b.Copy.Hash != (tree.Hash{}) && e.Untouched(b.Copy) {
			entries[i].Hash = b.Copy.Hash
			entries[same], entries[i] = entries[i], entries[same]
			same++
		}
	}
	return entries[same:]
}

// fileWork compares the files and folders of both sides with the baseline.
type fileWork struct {
	in       *Input
	rep      *Report
	root     host.Tree                // of the copy
	was      map[string]tree.Entry    // entries of the copy when it began to answer
	base     map[string]baseline.File // what is not accounted for yet
	folders  map[string]baseline.File // the same, of folders
	there    map[string]tree.Entry    // on the origin now, not accounted for yet
	knows    bool                     // folders were noted at all
	filled   map[string]bool          // folders of the copy with something in them
	forged   map[string]bool          // on the origin: as they looked, and something else
	problems map[string]tree.Problem  // on the copy
	seen     []baseline.File          // as before, and changed in some way that does not matter
	read     map[string]baseline.File // whose digests were not known
	spoiled  places                   // not as they were written to the copy
	told     []string                 // paths of those
	noted    places                   // folders that only the copy has, with nothing in them
	own      places                   // written for the copy, and as they were
	moved    places                   // changed on the origin
	after    places                   // changed on the copy after it had begun to answer
}

// origin lists the origin's files, and reads those whose times do not tell whether they changed.
func (w *fileWork) origin(ctx context.Context, origin stack.Place, copied []tree.Entry) (files int, err error) {
	list, err := tree.Scan(ctx, origin.Root, w.in.Filter)
	if err != nil {
		return 0, fmt.Errorf("listing the origin: %w", err)
	}
	if err := w.digests(ctx, origin, list.Entries, copied); err != nil {
		return 0, err
	}
	var same []tree.Entry
	w.forged, same, err = tree.Forged(ctx, origin.Root, list.Entries, func(e tree.Entry) (tree.Entry, bool) {
		f, known := w.base[e.Path]
		return f.Origin, known
	})
	if err != nil {
		return 0, fmt.Errorf("reading the origin's files: %w", err)
	}
	for _, e := range same {
		f := w.base[e.Path]
		f.Origin.Changed = e.Changed
		w.base[e.Path] = f
		w.seen = append(w.seen, f)
	}
	for _, e := range list.Entries {
		if !e.Mode.IsDir() {
			w.there[e.Path] = e
		}
	}
	return len(w.there), nil
}

// digests completes the baseline where the system copied files that nobody read. What somebody has changed on the
// origin since can't be read any more: then the copy's is what was brought.
func (w *fileWork) digests(ctx context.Context, origin stack.Place, list, copied []tree.Entry) error {
	var read []tree.Entry
	for _, e := range list {
		if b := w.base[e.Path]; unread(b) && e.Untouched(b.Origin) {
			read = append(read, e)
		}
	}
	if err := tree.Digest(ctx, origin.Root, read, nil, func(int64, int) {}); err != nil {
		return fmt.Errorf("reading the origin's files: %w", err)
	}
	brought := byPath(read)
	for _, e := range copied {
		b := w.base[e.Path]
		o, was := brought[e.Path]
		switch is := was && o.Untouched(b.Origin) && o.Hash != (tree.Hash{}); {
		case !unread(b), !is && (b.Own || w.since(e)):
			continue
		case is:
			b.Origin.Hash = o.Hash
		default:
			b.Origin.Hash = e.Hash
		}
		if !b.Own {
			b.Copy.Hash = b.Origin.Hash
		}
		w.base[e.Path], w.read[e.Path] = b, b
	}
	return nil
}

// unread tells whether a file was copied without being read.
func unread(b baseline.File) bool {
	return b.Origin.Path != "" && b.Origin.Regular() && b.Origin.Hash == (tree.Hash{})
}

// compare goes through what the copy has, and then through what it should have.
func (w *fileWork) compare(now []tree.Entry) {
	w.knows, w.filled = len(w.folders) > 0, map[string]bool{}
	for _, e := range now {
		for p := path.Dir(e.Path); p != "." && !w.filled[p]; p = path.Dir(p) {
			w.filled[p] = true
		}
		if !e.Mode.IsDir() {
			w.file(e)
		}
	}
	w.missing()
	for i := len(now) - 1; i >= 0; i-- { // what is in a folder before the folder
		if now[i].Mode.IsDir() {
			w.folder(now[i])
		}
	}
	for _, p := range slices.Backward(slices.Sorted(maps.Keys(w.folders))) {
		if w.folders[p].Copy.Path != "" && !w.says(p) {
			w.spoil(p, "is missing, a folder")
		}
	}
}

// spoil notes that an entry of the copy is not what it was.
func (w *fileWork) spoil(name, how string) {
	w.rep.Apart.Copy++
	w.told = append(w.told, name)
	w.spoiled.add("%s %s", name, how)
}

// says tells whether something in a folder was said already.
func (w *fileWork) says(folder string) bool {
	return slices.ContainsFunc(w.told, func(p string) bool { return strings.HasPrefix(p, folder+"/") })
}

// file judges one file of the copy.
func (w *fileWork) file(e tree.Entry) {
	w.rep.Files++
	b, known := w.base[e.Path]
	delete(w.base, e.Path)
	o, has := w.there[e.Path]
	delete(w.there, e.Path)
	moved := has != (b.Origin.Path != "") ||
		has && (!o.Same(b.Origin) || o.Mode.Perm() != b.Origin.Mode.Perm() || w.forged[e.Path])
	if moved {
		w.moved.add("%s", e.Path)
	}
	how := w.unlike(e, b.Copy)
	if how != "" && w.later(e) {
		return
	}
	switch {
	case !known:
		w.spoil(e.Path, "is not on the origin")
	case how != "":
		w.spoil(e.Path, how)
		if moved {
			w.rep.Apart.Clashes++
		}
	case b.Own:
		w.own.add("%s", e.Path)
	case b.Origin.Link == "" && b.Origin.Hash != b.Copy.Hash:
		w.spoil(e.Path, "was not copied as it was read")
	}
	if known && how == "" && (w.in.Fresh || !e.Changed.Equal(b.Copy.Changed)) {
		b.Copy = e
		w.seen = append(w.seen, b)
	}
}

// since tells whether an entry was changed after the copy had begun to answer.
func (w *fileWork) since(e tree.Entry) bool {
	was, known := w.was[e.Path]
	if !known {
		return false
	}
	fi, err := w.root.Lstat(e.Path)
	return err != nil || !was.Seen(fi).Untouched(was) || fi.Mode() != was.Mode
}

// later notes an entry that was changed after the copy had begun to answer, and tells whether it was.
func (w *fileWork) later(e tree.Entry) bool {
	if !w.since(e) {
		return false
	}
	w.after.add("%s changed since the copy began to answer", e.Path)
	w.rep.Apart.Copy++
	return true
}

// unlike says how an entry of the copy is not what it was.
func (w *fileWork) unlike(is, was tree.Entry) string {
	var out []string
	switch {
	case is.Mode.Type() != was.Mode.Type():
		return fmt.Sprintf("is %s, not %s", kindOf(is), kindOf(was))
	case is.Link != was.Link:
		out = append(out, fmt.Sprintf("leads to %s, not to %s", is.Link, was.Link))
	case is.Hash != was.Hash:
		out = append(out, "is different")
	}
	if is.Mode&fs.ModeSymlink == 0 && is.Mode.Perm() != was.Mode.Perm() {
		out = append(out, fmt.Sprintf("has the mode %03o, not %03o", is.Mode.Perm(), was.Mode.Perm()))
	}
	given := is.Owner != nil && *is.Owner == wall.AccountOf(string(w.in.Copy.ID)) // when its code was started there
	if is.Owner != nil && was.Owner != nil && *is.Owner != *was.Owner && !given {
		out = append(out, fmt.Sprintf("belongs to %d:%d, not to %d:%d", is.Owner.User, is.Owner.Group, was.Owner.User,
			was.Owner.Group))
	}
	return strings.Join(out, ", and ")
}

func kindOf(e tree.Entry) string {
	switch {
	case e.Mode.IsDir():
		return "a folder"
	case e.Mode&fs.ModeSymlink != 0:
		return "a link to " + e.Link
	}
	return "a file"
}

// folder judges one folder of the copy.
func (w *fileWork) folder(e tree.Entry) {
	b, known := w.folders[e.Path]
	delete(w.folders, e.Path)
	how := w.unlike(e, b.Copy)
	if how != "" && w.later(e) {
		return
	}
	switch {
	case known && how != "":
		w.spoil(e.Path, how)
	case known && (w.in.Fresh || b.Copy.Owner == nil):
		b.Copy = e
		w.seen = append(w.seen, b)
	case !known && w.knows && !w.filled[e.Path]:
		w.noted.add("%s is an empty folder that the origin does not have", e.Path)
	}
}

// missing accounts for what only the baseline or the origin has.
func (w *fileWork) missing() {
	for _, p := range slices.Sorted(maps.Keys(w.base)) {
		if w.base[p].Copy.Path == "" {
			continue
		}
		delete(w.there, p)
		if bad, is := w.problems[p]; is {
			w.spoil(p, "is no "+kindOf(w.base[p].Copy)[2:]+" any more: it "+bad.What)
		} else {
			w.spoil(p, "is missing")
		}
		delete(w.problems, p)
	}
	for _, p := range slices.Sorted(maps.Keys(w.problems)) {
		w.spoil(p, "is not on the origin, and "+w.problems[p].What)
	}
	for _, p := range slices.Sorted(maps.Keys(w.there)) {
		w.moved.add("%s", p)
	}
	w.rep.Apart.Origin += w.moved.n
}

func (w *fileWork) check(onOrigin int, fresh bool) Check {
	c := Check{
		Name: "files", Group: "files", Title: "files by digest, folders, modes, owners", Verdict: Holds,
		Origin: site.Number(onOrigin), Copy: site.Number(w.rep.Files), Where: w.spoiled.where, Number: w.spoiled.n,
	}
	switch {
	case w.spoiled.n > 0 && fresh:
		c.Verdict, c.Text = Broken, fmt.Sprintf("%d are not what they should be", w.spoiled.n)
	case w.spoiled.n > 0 || w.moved.n > 0 && !fresh:
		c.Verdict = Changed
		c.Text = fmt.Sprintf("since they parted %d changed on the origin, %d on the copy", w.moved.n, w.spoiled.n)
		for _, p := range w.moved.where {
			c.Where = append(c.Where, p+" changed on the origin")
		}
		c.Number += w.moved.n
	case w.after.n > 0:
		c.Verdict, c.Text = Changed, site.Plural(w.after.n, "entry", "entries")+
			" changed since the copy began to answer"
		c.Where, c.Number = w.after.where, w.after.n
	case w.moved.n > 0:
		c.Verdict, c.Text = Noted, fmt.Sprintf("%d changed on the origin during the run", w.moved.n)
		c.Where, c.Number = w.moved.where, w.moved.n
	case w.noted.n > 0:
		c.Verdict, c.Text, c.Where, c.Number = Noted, "empty folders that only the copy has", w.noted.where, w.noted.n
	case w.own.n > 0:
		c.Text = fmt.Sprintf("%d of them written for the copy: %s", w.own.n, strings.Join(w.own.where, ", "))
	}
	return c
}

// textWork looks for addresses of the origin in the copy's files, and for what opens the origin.
type textWork struct {
	in      *Input
	secrets needles.Needles
	mu      sync.Mutex
	found   places
	opens   places
	looked  int
}

func newTextWork(ctx context.Context, in *Input, origin stack.Place) (*textWork, error) {
	w := &textWork{in: in}
	s, can := in.Transform.Stack.(stack.Secretive)
	if in.CountOnly || !can || in.Copy.Database.Beside() { // tables beside the live ones have the account of these
		return w, nil
	}
	secrets, err := s.Secrets(ctx, origin)
	w.secrets = needles.New(secrets)
	return w, err
}

func (w *textWork) look() *tree.Look {
	if w.in.CountOnly {
		return nil
	}
	return &tree.Look{Want: tree.Entry.Textual, Text: func(e tree.Entry, text []byte) {
		_, n, _ := w.in.Transform.Change.Rewriter.Value(bytes.TrimSpace(text), rewrite.Prose)
		opens := w.secrets.In(text)
		w.mu.Lock()
		defer w.mu.Unlock()
		w.looked++
		if n > 0 {
			w.found.add("%s (%d)", e.Path, n)
		}
		if opens {
			w.opens.add("%s", e.Path)
		}
	}}
}

// checks say what was found. A file that opens the live site is damage where it stands beside the
// configuration, from where the copy's code could use it; deeper ones are noted.
func (w *textWork) checks() []Check {
	slices.Sort(w.found.where)
	slices.Sort(w.opens.where)
	looked := fmt.Sprintf("%d texts looked at", w.looked)
	c := judged("addresses in files", "addresses", "addresses of the origin left in files", looked, w.found, Noted)
	if w.found.n > 0 {
		c.Text = "files are copied byte for byte; these lead to the origin"
	}
	if w.secrets.None() {
		return []Check{c}
	}
	verdict := Noted
	if slices.ContainsFunc(w.opens.where, func(p string) bool { return !strings.Contains(p, "/") }) {
		verdict = Broken
	}
	o := judged("secrets in files", "isolation", "what opens the live site, in files", looked, w.opens, verdict)
	if w.opens.n > 0 {
		o.Text = "the live site's password or keys stand in these; leave them out with --skip, or change them " +
			"on the copy"
	}
	return []Check{c, o}
}
