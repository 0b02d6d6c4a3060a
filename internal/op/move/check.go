package move

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
	"alibi/internal/work"
)

// PlanCheck says what comparing the two places will do.
func PlanCheck(in Input) plan.Plan {
	p := in.new(plan.Compare)
	p.Steps = []plan.Step{{Name: "digest", Title: "read the files", Work: 2 * p.Bytes, Unit: plan.Bytes}}
	if in.hasTables() {
		p.Steps = append(p.Steps, plan.Step{Name: "rows", Title: "add the tables up", Work: p.Rows, Unit: plan.Rows})
	}
	p.Steps = append(p.Steps, plan.Step{Name: "pages", Title: "ask both for pages"})
	p.Writes = []string{"nothing"}
	sec := 1 + float64(p.Bytes)/60e6 + float64(p.Rows)/150e3 + in.Move.OneByOne().Seconds()
	p.Estimate = plan.Estimate{Low: time.Duration(sec * 0.3 * 1e9), High: time.Duration(sec * 3 * 1e9),
		Basis: "usual rates"}
	return in.finish(p)
}

// block and warn note what a check found.
func (x *runner) block(t *work.Task, code, text string, remedy string) {
	t.Memorize(func() {
		x.mem.Found = append(x.mem.Found, site.Finding{Severity: site.Block, Code: code, Text: text, Remedy: remedy})
	})
}

// digest reads the files that look the same on both sides.
func (x *runner) digest(ctx context.Context, t *work.Task) error {
	t.Memorize(func() { x.mem.Found, x.mem.Files = nil, 0 })
	e, err := x.open(ctx, fileParts)
	if err != nil {
		return err
	}
	defer e.close()
	there, err := tree.Scan(ctx, e.to.Root, filter(e.there))
	if err != nil {
		return fmt.Errorf("listing the files at %s: %w", e.there.Host, err)
	}
	has := make(map[string]tree.Entry, len(there.Entries))
	for _, en := range there.Entries {
		has[en.Path] = en
	}
	var old, now []tree.Entry
	missing, first := 0, ""
	for _, en := range tree.OnlyFiles(e.want.Entries) {
		is, ok := has[en.Path]
		if !ok || !is.Same(en) {
			if missing++; first == "" {
				first = en.Path
			}
			continue
		}
		if en.Regular() {
			old, now = append(old, en), append(now, is)
		}
	}
	tell := func(bytes int64, _ int) { t.Add(bytes, 0) }
	if err := tree.Digest(ctx, e.from.Root, old, nil, tell); err != nil {
		return err
	}
	if err := tree.Digest(ctx, e.to.Root, now, nil, tell); err != nil {
		return err
	}
	for i := range old {
		if old[i].Hash != now[i].Hash {
			x.block(t, "file", old[i].Path+" holds something else at the new place",
				"see who wrote it there; alibi move "+x.c.Move+" carry brings it again")
		}
	}
	if missing > 0 {
		t.Note("%s changed on the live site since, the first: %s", site.Plural(int64(missing), "file", "files"), first)
	}
	t.Memorize(func() { x.mem.Files = len(old) })
	return nil
}

// addUp sees whether the tables at the new place are what was brought.
func (x *runner) addUp(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	return x.env.Tables(ctx, there, func(_ stack.Stack, snap tables.Snapshot) error {
		wrong, err := differing(ctx, snap, m.Sums, func(a plan.At) plan.Sum { return a.Place }, t, nil)
		for _, w := range wrong {
			x.block(t, "rows", w+": it is not what was brought", "see who writes there; alibi move "+m.Name+
				" carry brings it again")
		}
		var rows int64
		for _, at := range m.Sums {
			rows += at.Place.Rows
		}
		t.Memorize(func() { x.mem.Rows = rows })
		return err
	})
}

// pages asks both places for the same pages, each by the site's own name.
func (x *runner) pages(ctx context.Context, t *work.Task) error {
	here, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	c := plan.Check{At: x.env.Now(), Files: x.mem.Files, Rows: x.mem.Rows}
	warn := func(text, remedy string) {
		c.Findings = append(c.Findings, site.Finding{Severity: site.Warn, Code: "pages", Text: text, Remedy: remedy})
	}
	old, err := x.askPages(ctx, here, nil)
	if err == nil {
		var now []op.Page
		if now, err = x.askPages(ctx, there, old); err == nil {
			for i, p := range old {
				c.Pages = append(c.Pages, plan.PagePair{Path: p.Path, Old: p.Status, New: now[i].Status})
			}
			if werr := op.Worse(old, now); werr != nil {
				x.block(t, "pages", "at the new place "+werr.Error(), "see its web server, and its log of errors")
			}
		}
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, op.ErrNoPages):
		warn("the live site could not be asked for pages: "+err.Error(), x.byHand())
	case err != nil:
		warn("pages could not be compared: "+err.Error(), x.byHand())
	}
	m, err := x.env.Record.Move(ctx, x.c.Move)
	if err != nil {
		return err
	}
	c.Findings = slices.Concat(x.mem.Found, c.Findings, aboutKept(m))
	c.Holds = len(x.mem.Found) == 0
	if _, err := x.env.Record.ChangeMove(ctx, x.c.Move, func(m *plan.Move) error {
		m.Check = &c
		return nil
	}); err != nil {
		return err
	}
	text := c.Compared() + " compared: "
	if c.Holds {
		t.Result("%sit holds", text)
		return nil
	}
	t.Result("%sit does not hold: %s", text, x.mem.Found[0].Text)
	return nil
}

// byHand says how a person looks at the new place.
func (x *runner) byHand() string {
	return "look at both by hand; alibi proxy " + x.c.Move + " shows the new one under the live name"
}

// askPages asks a place for pages, at the machine at which visitors reach it, or would.
func (x *runner) askPages(ctx context.Context, s site.Site, before []op.Page) ([]op.Page, error) {
	if x.env.Web == nil {
		return nil, op.ErrNoPages
	}
	if len(s.Web) == 0 {
		m, err := x.env.Record.Move(ctx, x.c.Move)
		if err != nil {
			return nil, err
		}
		s.Web = m.Web(s.Host, s.Root)
	}
	word, _ := x.env.Pass(s.ID)
	if before == nil {
		return x.env.Pages(ctx, s, word, nil)
	}
	here, _, err := x.sides(ctx)
	if err != nil {
		return nil, err
	}
	now, err := x.env.Pages(ctx, s, word, under(before, here.Address(), s.Address()))
	return statuses(before, now), err
}
