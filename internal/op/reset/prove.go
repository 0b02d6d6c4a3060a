package reset

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/work"
)

// prove compares the site with what it should be, before anybody sees it.
func (x *runner) prove(ctx context.Context, t *work.Task) error {
	e, err := x.ends(ctx)
	if err != nil {
		return err
	}
	defer e.close()
	found, err := x.maker(e.s).Compare(ctx, t, e.sides())
	if err != nil {
		return err
	}
	var parts []string
	if n := found.Tables; n > 0 {
		parts = append(parts, site.Plural(found.Rows, "row", "rows")+" in "+site.Plural(int64(n), "table", "tables"))
	}
	if n := found.Files; n > 0 {
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
	for _, s := range stack.ContentsOf(e.st).LeftFolders() {
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
	if s.Role != site.Copy || s.State != site.Ready || x.env.Web == nil {
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
