package reset

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// ErrDiffers says that a site is not what it should be after all.
var ErrDiffers = errors.New("the site is not what it should be")

// prove compares the site with what it should be, before anybody sees it.
func (x *runner) prove(ctx context.Context, t *work.Task) error {
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer e.close()
	c, err := x.differ(ctx, e)
	if err != nil {
		return err
	}
	var wrong []string
	for _, list := range [][]tree.Entry{c.put, tree.OnlyFiles(c.remove)} {
		for _, d := range list {
			if !slices.Contains(x.mem.Forged, d.Path) {
				wrong = append(wrong, d.Path)
			}
		}
	}
	if len(x.mem.Forged) > 0 {
		still, err := x.forged(ctx, e)
		if err != nil {
			return err
		}
		wrong = append(wrong, still...)
	}
	var rows int64
	if len(e.want.db.Tables) > 0 {
		n, bad, err := e.proveTables(ctx, t)
		if err != nil {
			return err
		}
		rows, wrong = n, append(wrong, bad...)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%w: %d parts differ, the first is %s", ErrDiffers, len(wrong), wrong[0])
	}
	var parts []string
	if n := len(e.want.db.Tables); n > 0 {
		parts = append(parts, site.Plural(rows, "row", "rows")+" in "+site.Plural(int64(n), "table", "tables"))
	}
	if n := len(tree.OnlyFiles(e.want.entries)); n > 0 {
		parts = append(parts, site.Plural(int64(n), "file", "files"))
	}
	text := strings.Join(parts, " and ") + " are what they should be"
	if len(parts) == 1 && strings.HasPrefix(parts[0], "1 ") {
		text = parts[0] + " is what it should be"
	}
	if len(parts) == 0 {
		text = "all is what it should be"
	}
	if x.c.Clean != nil {
		left, err := x.left(ctx, e)
		if err != nil {
			return err
		}
		text += left
	}
	t.Memorize(func() { x.mem.Compared = text })
	if err := x.askPages(ctx, t, e.s); err != nil {
		return err
	}
	if x.does("wake") { // what it runs may go only with what it is to run on: it is started anew first
		x.result(t, "")
		return nil
	}
	x.result(t, x.answers(ctx, e.s))
	return nil
}

// settling is how long PHP may go on with files as it compiled them before it looks
// at them again (opcache.revalidate_freq, 2 s unless set).
const settling = 2200 * time.Millisecond

// askPages sees whether a live site still shows what it showed before, past the
// notice that its visitors see. If it does not, the run fails and is taken back.
func (x *runner) askPages(ctx context.Context, t *work.Task, s site.Site) error {
	if s.Role != site.Live || len(x.mem.Pages) == 0 {
		return nil
	}
	t.Note("asking for its pages")
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(settling):
	}
	word, _ := x.env.Pass(s.ID)
	now, err := x.env.Pages(ctx, s, word, x.mem.Pages)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return fmt.Errorf("asking the live site for its pages: %w", err)
	}
	if err := op.Worse(x.mem.Pages, now); err != nil {
		return fmt.Errorf("%w: %w", ErrWorse, err)
	}
	t.Memorize(func() {
		x.mem.Compared += "; " + site.Plural(int64(len(now)), "page", "pages") +
			" of it asked for: none is worse than before"
	})
	return nil
}

// ErrWorse says that a live site's pages are worse than before a run.
var ErrWorse = errors.New("the live site's pages are worse than before")

// result says what the comparison found, and how the site answers.
func (x *runner) result(t *work.Task, answer string) {
	if answer != "" {
		answer = "; " + answer
	}
	t.Result("%s%s", x.mem.Compared, answer)
}

// left tells what is left over of a cleaned site.
func (x *runner) left(ctx context.Context, e *ends) (out string, err error) {
	list, err := Leftovers(ctx, e.st, e.place)
	if err != nil {
		return "", err
	}
	for _, s := range e.st.LeftFolders() {
		n, bytes := 0, int64(0)
		for _, p := range list {
			if p.Folder == s.Name {
				n, bytes = n+1, bytes+p.Bytes
			}
		}
		if n > 0 {
			out += fmt.Sprintf(", %d in %s (%s)", n, s.Name, site.Size(bytes))
		}
	}
	if out != "" {
		out = "; left over" + strings.TrimPrefix(out, ",")
	}
	return out, nil
}

// anew has a copy's code started anew: PHP keeps compiled what it read before,
// and may not see that a file is another now.
func (x *runner) anew(ctx context.Context, s site.Site) (site.Site, error) {
	if s.Role != site.Copy {
		return s, nil
	}
	return x.env.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error { s.PlacedAt = x.env.Now(); return nil })
}

// answers asks a copy for its pages; what it says is told, whatever it is: a
// state may have been a broken one.
func (x *runner) answers(ctx context.Context, s site.Site) string {
	if s.Role != site.Copy || s.State != site.Ready || x.env.Probe == nil {
		return ""
	}
	s, err := x.anew(ctx, s)
	if err != nil {
		return "it was not asked: " + err.Error()
	}
	a, err := x.env.Probe(ctx, s)
	if err != nil {
		return "it does not answer: " + err.Error()
	}
	return fmt.Sprintf("its first page answers %d", a.Status)
}

// proveTables adds up the rows on both sides.
func (e *ends) proveTables(ctx context.Context, t *work.Task) (rows int64, wrong []string, err error) {
	now, err := e.snapshot(ctx)
	if err != nil {
		return 0, nil, err
	}
	for _, w := range e.want.db.Tables {
		is, has := now.Schema().Table(w.Name)
		if w.Table == nil || !has {
			if has != (w.Table != nil) {
				wrong = append(wrong, "table "+w.Name)
			}
			continue
		}
		n, sum, err := add(ctx, e.want.db.Digest, w.Name, w.Rows)
		if err != nil {
			return 0, nil, fmt.Errorf("table %s: %w", w.Name, err)
		}
		isN, isSum, err := total(ctx, now, is)
		if err != nil {
			return 0, nil, fmt.Errorf("table %s: %w", w.Name, err)
		}
		if n != isN || sum != isSum {
			wrong = append(wrong, fmt.Sprintf("table %s (%d rows, and %d should be there)", w.Name, isN, n))
		}
		rows += n
		t.Add(n, 1)
	}
	drop, hang := e.want.db.Hanging(now.Schema(), false)
	for _, o := range append(drop, hang...) {
		wrong = append(wrong, o.Kind+" "+o.Name)
	}
	return rows, wrong, nil
}

// add adds up the digests of rows.
func add(
	ctx context.Context,
	digest func(string, tables.Row, []byte) (tables.Digest, []byte),
	name string,
	rows func(context.Context, func(tables.Row) error) error,
) (n int64, sum uint64, err error) {
	var buf []byte
	var d tables.Digest
	err = rows(ctx, func(r tables.Row) error {
		d, buf = digest(name, r, buf)
		n, sum = n+1, sum+d[0]
		return ctx.Err()
	})
	return n, sum, err
}

// total adds up a table of a site.
func total(ctx context.Context, snap tables.Snapshot, t tables.Table) (int64, uint64, error) {
	if sm, ok := snap.(tables.Summer); ok {
		return sm.Total(ctx, t.Name, tables.Range{})
	}
	return add(ctx, snap.Digest, t.Name, reader(snap, t.Name))
}
