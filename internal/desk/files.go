package desk

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// FileState says how a file of a copy stands to the origin's.
type FileState string

// The states. In a folder's, something below it has one.
const (
	FileSame    FileState = ""        // as it was brought
	FileChanged FileState = "changed" // on the copy since it was brought
	FileNew     FileState = "new"     // on the copy since
	FileGone    FileState = "gone"    // from the copy since
	FileOwn     FileState = "own"     // it makes the copy one; the origin has another or none
)

// FileRow is a file or a folder below a site's root.
type FileRow struct {
	Path    string    `json:"path"`
	Dir     bool      `json:"dir,omitempty"`
	Link    string    `json:"link,omitempty"`
	Size    int64     `json:"size"` // bytes; of all files in a folder, where that is known
	ModTime time.Time `json:"mod_time,omitzero"`
	State   FileState `json:"state,omitempty"`
	Below   int       `json:"below,omitempty"` // files in a folder that have a state
}

// Files lists a folder of a site, "" its root; of a copy with what changed on it
// since it was brought.
func (d *Hands) Files(ctx context.Context, id site.ID, dir string) ([]FileRow, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	dir, err = host.Clean(cmp.Or(strings.Trim(dir, "/"), "."))
	if err != nil {
		return nil, fmt.Errorf("%q is no folder of %s: name it as it is called below its root", dir, s.Name)
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	list, err := p.Root.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s has no folder %s", s.Name, dir)
	}
	if err != nil {
		return nil, fmt.Errorf("listing %s of %s: %w", dir, s.Name, err)
	}
	out := []FileRow{}
	for _, fi := range list {
		r := FileRow{Path: path.Join(dir, fi.Name()), Dir: fi.IsDir(), Size: fi.Size(), ModTime: fi.ModTime()}
		if r.Dir {
			r.Size = 0
		}
		if fi.Mode()&fs.ModeSymlink != 0 {
			r.Link, _ = p.Root.Readlink(r.Path) // a link that leads nowhere is shown without an aim
		}
		out = append(out, r)
	}
	changed, err := d.FilesChanged(ctx, s)
	if err != nil {
		return nil, err
	}
	return withStates(out, dir, changed), nil
}

// withStates adds to a folder's list what changed in it and below it.
func withStates(list []FileRow, dir string, changed []FileRow) []FileRow {
	at := map[string]int{}
	for i, r := range list {
		at[r.Path] = i
	}
	for _, c := range changed {
		rest, ok := strings.CutPrefix(c.Path, strings.TrimPrefix(dir+"/", "./"))
		if !ok {
			continue
		}
		name, _, below := strings.Cut(rest, "/")
		full := path.Join(dir, name)
		i, known := at[full]
		switch {
		case known && below:
			if list[i].Below++; c.State != FileOwn || list[i].State == FileSame {
				list[i].State = FileChanged
			}
			if c.State == FileOwn && list[i].Below == 1 {
				list[i].State = FileOwn
			}
		case known:
			list[i].State = c.State
		case !below:
			at[full] = len(list)
			list = append(list, c)
		default: // a folder that is gone
			at[full] = len(list)
			list = append(list, FileRow{Path: full, Dir: true, State: FileGone, Below: 1})
		}
	}
	slices.SortStableFunc(list, func(a, b FileRow) int {
		if a.Dir != b.Dir {
			return map[bool]int{true: -1, false: 1}[a.Dir]
		}
		return strings.Compare(a.Path, b.Path)
	})
	return list
}

// FilesChanged lists what changed on a copy since it was brought, by size, time
// and kind; of a live site nothing is known.
func (d *Hands) FilesChanged(ctx context.Context, s site.Site) ([]FileRow, error) {
	if s.Role != site.Copy {
		return nil, nil
	}
	b, err := baseline.Open(filepath.Join(d.env.CopyDir(s.Name), "now", "baseline.db"))
	if err != nil {
		return nil, nil // it is being made
	}
	defer b.Close()
	was, err := b.Files(ctx)
	if err != nil {
		return nil, err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	now, err := tree.Scan(ctx, p.Root, stack.DatabaseFilter(s.Root, s.Database))
	if err != nil {
		return nil, err
	}
	var out []FileRow
	for _, e := range now.Entries {
		if e.Mode.IsDir() {
			continue
		}
		f, known := was[e.Path]
		delete(was, e.Path)
		r := FileRow{Path: e.Path, Size: e.Size, ModTime: e.MTime, Link: e.Link}
		switch {
		case known && f.Own:
			r.State = FileOwn
		case !known || f.Copy.Path == "":
			r.State = FileNew
		case !e.Same(f.Copy) || e.Regular() && e.Mode.Perm() != f.Copy.Mode.Perm():
			r.State = FileChanged
		default:
			continue
		}
		out = append(out, r)
	}
	for name, f := range was {
		if f.Copy.Path != "" && !f.Copy.Mode.IsDir() {
			out = append(out, FileRow{Path: name, Size: f.Copy.Size, State: FileGone})
		}
	}
	slices.SortFunc(out, func(a, b FileRow) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// mostText is how much of a file can be shown and edited, in bytes.
const mostText = 4 << 20

// FileText reads a text file of a site.
func (d *Hands) FileText(ctx context.Context, id site.ID, name string) ([]byte, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	list, err := reset.Paths([]string{name})
	if err != nil {
		return nil, err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	fi, err := p.Root.Lstat(list[0])
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s has no file %s: %w", s.Name, list[0], fs.ErrNotExist)
	case err != nil:
		return nil, err
	case !fi.Mode().IsRegular():
		return nil, fmt.Errorf("%s of %s is no file: a folder, a link or something else", list[0], s.Name)
	case fi.Size() > mostText:
		return nil, fmt.Errorf("%s is %s large: at most %s can be shown or edited here", list[0], site.Size(fi.Size()),
			site.Size(mostText))
	}
	f, err := p.Root.Open(list[0])
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(f)
	if err == nil && bytes.IndexByte(text, 0) >= 0 {
		return nil, fmt.Errorf("%s is no text", list[0])
	}
	return text, err
}

// CheckSyntax has a text looked at by the PHP that a site runs, or as JSON; "" is
// right, or of a kind that is not checked. by names what looked.
func (d *Hands) CheckSyntax(ctx context.Context, s site.Site, name string, text []byte) (wrong, by string, err error) {
	switch strings.ToLower(path.Ext(name)) {
	case ".json":
		if err := json.Unmarshal(text, new(any)); err != nil {
			return err.Error(), "JSON", nil
		}
		return "", "JSON", nil
	case ".php", ".phtml", ".inc":
	default:
		return "", "", nil
	}
	want := s.Runtime.PHP
	if want == "" && s.Facts != nil {
		want = s.Facts.PHP
	}
	i := slices.IndexFunc(d.php(), func(p php.PHP) bool {
		return p.CLI != "" && (want == "" || p.Series() == php.Series(want))
	})
	if i < 0 {
		return "", "", nil
	}
	p := d.php()[i]
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := os.MkdirAll(d.env.Temp(), 0o700); err != nil {
		return "", "", err
	}
	dir, err := os.MkdirTemp(d.env.Temp(), "syntax-")
	if err != nil {
		return "", "", err
	}
	defer os.RemoveAll(dir)
	cmd, err := wall.Once(ctx, dir, site.Bounds{Program: 1 << 30, Processes: 8, CPU: 20 * time.Second}, p.CLI,
		"-n", "-d", "display_errors=stdout", "-d", "log_errors=0", "-l")
	if err != nil {
		return "", "", err
	}
	cmd.Stdin = bytes.NewReader(text)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8"}
	out, err := cmd.CombinedOutput()
	by = "PHP " + p.Version
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return "", by, fmt.Errorf("checking the syntax with %s: %w", by, err)
	}
	if err == nil {
		return "", by, nil
	}
	for line := range strings.SplitSeq(string(out), "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "Errors parsing") {
			return strings.NewReplacer("Standard input code", path.Base(name), "PHP Parse error:  ", "").Replace(line),
				by, nil
		}
	}
	return "it can't be read", by, nil
}

// ErrSyntax is given for a text that the runtime can't read.
var ErrSyntax = errors.New("the text is not right")

// PlanEdit says what writing a file of a site anew will do. One that the site's
// runtime can't read is refused, unless anyway says that it is meant.
func (d *Hands) PlanEdit(ctx context.Context, id site.ID, name string, text []byte, anyway bool) (plan.Plan, error) {
	s, err := d.fresh(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	list, err := reset.Paths([]string{name})
	if err != nil {
		return plan.Plan{}, err
	}
	if len(text) > mostText {
		return plan.Plan{}, fmt.Errorf("%s would be %s large: at most %s can be edited here", list[0],
			site.Size(int64(len(text))), site.Size(mostText))
	}
	was, err := d.FileText(ctx, id, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return plan.Plan{}, err
	}
	if err == nil && bytes.Equal(was, text) {
		return plan.Plan{}, fmt.Errorf("%s of %s: %w", list[0], s.Name, ErrNothingToChange)
	}
	wrong, by, err := d.CheckSyntax(ctx, s, name, text)
	if err != nil {
		return plan.Plan{}, err
	}
	if wrong != "" && !anyway {
		return plan.Plan{}, fmt.Errorf("%w: %s (%s); nothing was written", ErrSyntax, wrong, by)
	}
	part := plan.Part{What: "file " + list[0], Files: 1, Bytes: int64(len(text)), Note: "written anew"}
	if was == nil {
		part.Note = "comes"
	}
	p, err := d.planHandsOn(ctx, s, reset.Change{Edit: []reset.Edit{{Path: list[0], Text: text}}, Anyway: anyway,
		Words: list[0] + " edited"}, []plan.Part{part})
	switch {
	case err != nil:
	case by == "":
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Note,
				Code:     "syntax",
				Text:     "its syntax was not checked: nothing here reads such a file",
				Remedy:   "look at the site's pages afterwards",
			},
		)
	case wrong != "":
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "syntax",
				Text:     wrong,
				Remedy:   "say --anyway only if this is what you are testing",
			},
		)
	default:
		p.Findings = append(p.Findings, site.Finding{Severity: site.Note, Code: "syntax", Text: by + " can read it"})
	}
	return p, err
}

// PlanCarry says what putting a file or a folder of one site in place of another
// site's will do.
func (d *Hands) PlanCarry(ctx context.Context, from, to site.ID, name string) (plan.Plan, error) {
	src, err := d.record.Site(ctx, from)
	if err != nil {
		return plan.Plan{}, err
	}
	if from == to {
		return plan.Plan{}, fmt.Errorf("%s is both: name another site to carry to", src.Name)
	}
	s, err := d.fresh(ctx, to)
	if err != nil {
		return plan.Plan{}, err
	}
	paths, err := reset.Paths([]string{name})
	if err != nil {
		return plan.Plan{}, err
	}
	list, sum, err := reset.Carried(ctx, d.env, src, paths[0])
	if err != nil {
		return plan.Plan{}, err
	}
	goes, err := d.differing(ctx, s, src, paths[0], list)
	if err != nil {
		return plan.Plan{}, err
	}
	if len(goes) == 0 {
		return plan.Plan{}, fmt.Errorf("%s has the same %s as %s: %w", s.Name, paths[0], src.Name, ErrNothingToChange)
	}
	p, err := d.planHandsOn(
		ctx,
		s,
		reset.Change{
			Carry: []reset.Carry{{From: from, Path: paths[0], Sum: sum}},
			Words: paths[0] + " as " + src.Name + " has it",
		},
		goes,
	)
	p.Findings = append(
		p.Findings,
		site.Finding{
			Severity: site.Note,
			Code:     "addresses",
			Text:     "addresses in these files stay as they are written",
			Remedy:   "search them for " + src.Address().Host,
		},
	)
	return p, err
}

// differing says by what a file or folder of a site will change.
func (d *core) differing(ctx context.Context, s, src site.Site, name string, list []tree.Entry) ([]plan.Part, error) {
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	all, err := tree.Scan(ctx, p.Root, tree.Filter{})
	if err != nil {
		return nil, err
	}
	is := map[string]tree.Entry{}
	for _, e := range all.Entries {
		if !e.Mode.IsDir() && (e.Path == name || strings.HasPrefix(e.Path, name+"/")) {
			is[e.Path] = e
		}
	}
	var comes, changes, goes plan.Part
	for _, e := range list {
		if e.Mode.IsDir() {
			continue
		}
		o, has := is[e.Path]
		delete(is, e.Path)
		switch {
		case !has:
			comes.Files, comes.Bytes = comes.Files+1, comes.Bytes+e.Size
		case o.Size != e.Size || !o.MTime.Truncate(time.Second).Equal(e.MTime.Truncate(time.Second)):
			changes.Files, changes.Bytes = changes.Files+1, changes.Bytes+e.Size
		}
	}
	for _, e := range is {
		goes.Files, goes.Bytes = goes.Files+1, goes.Bytes+e.Size
	}
	var out []plan.Part
	for _, x := range []struct {
		p    plan.Part
		note string
	}{{comes, "come from " + src.Name}, {changes, "are replaced by those of " + src.Name},
		{goes, "go: " + src.Name + " does not have them"}} {
		if x.p.Files > 0 {
			x.p.What, x.p.Note = "files of "+name, x.note
			out = append(out, x.p)
		}
	}
	return out, nil
}

// Difference shows how two texts differ, as a unified diff between what they are
// called; "" if they don't.
func Difference(from, to string, was, is []byte) string {
	text, err := difflib.GetUnifiedDiffString(
		difflib.UnifiedDiff{
			A:        difflib.SplitLines(string(was)),
			B:        difflib.SplitLines(string(is)),
			FromFile: from,
			ToFile:   to,
			Context:  3,
		},
	)
	if err != nil {
		return "the difference can't be shown: " + err.Error() + "\n"
	}
	return text
}

// Editor is the one that a person works with: $VISUAL, $EDITOR, or vi.
func Editor() string { return cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR"), "vi") }
