package clone

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/behind"
	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// Ways in which media are brought, for Choices.Media.
const (
	MediaFirst  = "first"  // the copy answers when they are there
	MediaBehind = "behind" // they come while it answers already
)

// mediaFrom is from how many bytes on media come behind where nobody chose: fewer are there soon.
const mediaFrom = 256 << 20

// BehindFiles and behindBytes bound what of the media is brought in one go. Tests have fewer.
var BehindFiles = 1000

const behindBytes = 128 << 20

// planMedia decides whether media come behind, and gives how much they are.
func planMedia(p *plan.Plan, in Input, note func(site.Severity, string, string, string)) (bytes int64) {
	c, on := in.Choices, in.Places[p.Target.Host]
	why := ""
	switch {
	case p.Kind != plan.Copy:
		why = "a copy that is brought in line is compared before it answers"
	case p.Origin.Host == p.Target.Host:
		why = "they are on the same machine"
	case p.Target.Host != in.Local:
		why = "it is not made on this machine, which would bring those that are asked for"
	case in.Media == "":
		why = "it is not known which files are media"
	case !answersFirst(*p, on):
		why = "the copy is compared before it answers"
	}
	files := 0
	for _, w := range in.Origin.Facts.Folders {
		left := slices.ContainsFunc(p.LeftOut, func(l plan.LeftOut) bool { return within(w.Path, l.What) })
		if within(w.Path, in.Media) && !left {
			files, bytes = files+w.Files, bytes+w.Bytes
		}
	}
	if bytes == 0 && why == "" {
		why = "there are none"
	}
	if why != "" || c.Media == MediaFirst || c.Media == "" && bytes < mediaFrom {
		if c.Media == MediaBehind {
			note(site.Warn, "media", "the media do not come behind: "+why, "leave the choice out")
		}
		return 0
	}
	p.Target.Behind = true
	note(site.Note, "media", fmt.Sprintf("%s of media (%s) come behind: the copy answers before they are there",
		site.Size(bytes), site.Plural(files, "file", "files")),
		"have it answer when all is there: --media first")
	return bytes
}

func within(name, dir string) bool { return name == dir || strings.HasPrefix(name, dir+"/") }

// isMedia tells whether a file comes behind: code, styles and settings among the media do not.
func isMedia(e tree.Entry, dir string) bool {
	return e.Regular() && within(e.Path, dir) && !e.Textual() && !strings.HasSuffix(strings.ToLower(e.Path), ".php")
}

// later splits what is to be brought into what the copy needs to answer, and media that come behind.
func (x *runner) later(entries []tree.Entry) (now, behind []tree.Entry) {
	if !x.p.Target.Behind {
		return entries, nil
	}
	for _, e := range entries {
		if isMedia(e, x.d.Media) {
			behind = append(behind, e)
		} else {
			now = append(now, e)
		}
	}
	return now, behind
}

// following brings media to a copy that answers.
type following struct {
	x      *runner
	origin host.Tree
	up     host.Root // the copy's folder
	staged string    // below it: where a file is until it is whole
	site   string    // below it: where the copy's files are
	b      *baseline.Baseline
	line   *behind.Line
	tell   func(e tree.Entry)
	done   func() // closes what was opened

	mu      sync.Mutex
	left    map[string]tree.Entry // to come
	came    []tree.Entry          // as they were when they had come
	asked   int                   // of those, brought because somebody asked
	missing []tree.Problem        // that do not come
}

// follow opens the way on which media come, unless it is open.
func (x *runner) follow(ctx context.Context) error {
	if !x.p.Target.Behind || x.media != nil {
		return nil
	}
	origin, err := x.env.Place(ctx, x.p.Origin.Host, x.p.Origin.Root)
	if err != nil {
		return err
	}
	up, err := x.env.Write(ctx, x.run, x.p.Target, op.Folder(x.p.Target))
	if err != nil {
		origin.Root.Close()
		return err
	}
	f := &following{x: x, origin: origin.Root, up: up, staged: "now/behind", left: map[string]tree.Entry{},
		site: x.part("now"), tell: func(tree.Entry) {}}
	f.done = func() {
		up.Close()
		origin.Root.Close()
		if f.b != nil {
			f.b.Close()
		}
	}
	if f.b, err = baseline.Open(x.at("now", "baseline.db")); err == nil {
		err = f.load(ctx)
	}
	if err != nil {
		f.done()
		return err
	}
	// Who asks for a file has it brought until the run lets go, whatever step it is at.
	f.mu.Lock() // somebody may have been waiting for it
	f.line = x.env.Behind.Open(context.WithoutCancel(ctx), x.p.Target.ID, slices.Collect(maps.Keys(f.left)), f.one)
	f.mu.Unlock()
	x.media = f
	return nil
}

// load reads what is still to come: what the baseline has of the origin only.
func (f *following) load(ctx context.Context) error {
	files, err := f.b.Files(ctx)
	if err != nil {
		return err
	}
	for name, b := range files {
		if b.Copy.Path == "" {
			f.left[name] = b.Origin
		}
	}
	return nil
}

// close ends it: what somebody waits for is not brought any more.
func (f *following) close() {
	if f == nil || f.done == nil {
		return
	}
	f.line.Close()
	f.done()
	f.done = nil
}

// one brings a file that somebody asked for.
func (f *following) one(ctx context.Context, name string) error {
	f.mu.Lock()
	e, is := f.left[name]
	f.mu.Unlock()
	if !is {
		return nil
	}
	if err := f.bring(ctx, "asked", []tree.Entry{e}); err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.asked++
	return nil
}

// bring brings files and puts each in its place as a whole.
func (f *following) bring(ctx context.Context, aside string, list []tree.Entry) error {
	dir := path.Join(f.staged, aside)
	for _, e := range list {
		if err := host.MkdirAll(f.up, path.Join(dir, path.Dir(e.Path)), 0o700); err != nil {
			return fmt.Errorf("making room for %s: %w", e.Path, err)
		}
	}
	to, err := f.x.env.Write(ctx, f.x.run, f.x.p.Target, path.Join(f.up.Path(), dir))
	if err != nil {
		return err
	}
	defer to.Close()
	got, problems, err := tree.Copy(ctx, f.origin, to, list, func(int64, int) {})
	if err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	var files []baseline.File
	for _, e := range got {
		from := path.Join(dir, e.Path)
		if _, is := f.left[e.Path]; !is { // it has come meanwhile, and what became of it since is a person's
			if err := f.up.Remove(from); err != nil {
				return err
			}
			continue
		}
		is, err := f.place(from, e)
		if err != nil {
			return fmt.Errorf("putting %s in its place: %w", e.Path, err)
		}
		files, f.came = append(files, brought(f.x.p.Origin.Root, e)), append(f.came, is)
		f.over(e.Path)
		f.tell(e)
	}
	for _, p := range problems {
		f.over(p.Path)
	}
	f.missing = append(f.missing, problems...)
	return f.b.ChangeFiles(ctx, files)
}

// over says that a file is not to come any more; f.mu is held.
func (f *following) over(name string) {
	delete(f.left, name)
	f.line.Came(name)
}

// place gives a file that was brought its place, unless something is there already, and tells what is there then.
func (f *following) place(from string, e tree.Entry) (tree.Entry, error) {
	to := path.Join(f.site, e.Path)
	if err := host.MkdirAll(f.up, path.Dir(to), 0o755); err != nil {
		return e, err
	}
	linker, can := f.up.(host.Linker)
	if !can {
		return e, errors.ErrUnsupported
	}
	err := linker.Link(from, to)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return e, err
	}
	if err := f.up.Remove(from); err != nil {
		return e, err
	}
	fi, lerr := f.up.Lstat(to)
	if lerr != nil {
		return tree.Entry{Path: e.Path}, nil // somebody has removed it since
	}
	is := tree.Entry{Path: e.Path}.Seen(fi)
	if err != nil && !is.Same(e) { // what a person has put there stays
		return tree.Entry{Path: e.Path}, nil
	}
	return is, nil
}

// next gives what is to be brought in one go: what was changed last first, which is what pages show first.
func (f *following) next() (out []tree.Entry) {
	f.mu.Lock()
	defer f.mu.Unlock()
	list := slices.SortedFunc(maps.Values(f.left), func(a, b tree.Entry) int {
		if c := b.MTime.Compare(a.MTime); c != 0 {
			return c
		}
		return strings.Compare(a.Path, b.Path)
	})
	bytes := int64(0)
	for _, e := range list {
		if len(out) == BehindFiles || len(out) > 0 && bytes+e.Size > behindBytes {
			break
		}
		out, bytes = append(out, e), bytes+e.Size
	}
	return out
}

// behind brings the media of a copy that answers already.
func (x *runner) behind(ctx context.Context, t *work.Task) error {
	if err := x.follow(ctx); err != nil {
		return err
	}
	f := x.media
	f.mu.Lock()
	all, total := len(f.left)+len(f.came), int64(0)
	for _, e := range f.left {
		total += e.Size
	}
	for _, e := range f.came {
		total += e.Size
		t.Add(e.Size, 1)
	}
	f.tell = func(e tree.Entry) { t.Add(e.Size, 1) }
	f.mu.Unlock()
	t.Expect(total)
	for list := f.next(); len(list) > 0; list = f.next() {
		if err := f.bring(ctx, "flow", list); err != nil {
			return fmt.Errorf("bringing the media, %d of %d are there: %w", all-f.line.Left(), all, err)
		}
		if tree.Vanished(len(f.missing), all) {
			return fmt.Errorf("bringing the media: %d of %d, the first: %s: %w; see whether the origin is being moved, and "+
				"resume the run when they are back", len(f.missing), all, f.missing[0].Path, tree.ErrVanish)
		}
	}
	f.line.Close()
	if err := f.up.RemoveAll(f.staged); err != nil {
		return err
	}
	if f.asked > 0 {
		t.Note("%s asked for before the others", site.Plural(f.asked, "file was", "files were"))
	}
	if n := len(f.missing); n > 0 {
		var gone []string
		for _, p := range f.missing {
			gone = append(gone, p.Path)
		}
		if err := f.b.ForgetFiles(ctx, gone); err != nil {
			return err
		}
		if err := x.leftOut(ctx, "%s left out: %s", site.Plural(n, "entry", "entries"), named(f.missing)); err != nil {
			return err
		}
	}
	_, err := x.env.Record.ChangeSite(ctx, x.p.Target.ID, func(s *site.Site) error {
		s.Behind = false
		return nil
	})
	if err == nil {
		x.env.Behind.End(x.p.Target.ID)
		x.moment.Add(f.came)
	}
	return err
}
