package desk

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/zeebo/blake3"

	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// database opens a site's tables as they are now.
func (d *core) database(ctx context.Context, s site.Site, use func(st stack.Stack, snap tables.Snapshot) error) error {
	return d.env.Tables(ctx, s, use)
}

// ExportContent writes content of a site, of some kinds or all, into a new file in
// the open form in which its CMS exports it, and tells how many items that was.
// The site is only read.
func (d *Hands) ExportContent(ctx context.Context, s site.Site, kinds []site.Kind, to string) (items int, err error) {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, fmt.Errorf("writing the content: %w; nothing is written over", err)
	}
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		items, err = stack.ContentsOf(st).Export(ctx, snap, s.Database.Prefix, kinds, f)
		return err
	})
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(to)
		return 0, err
	}
	return items, d.log(ctx, s.ID, "export", "%d items of content written to %s", items, to)
}

// PlanBring says what adding the content of a file to a site will do.
func (d *Hands) PlanBring(ctx context.Context, id site.ID, from string) (plan.Plan, error) {
	s, err := d.fresh(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	if from, err = filepath.Abs(from); err != nil {
		return plan.Plan{}, err
	}
	text, err := os.ReadFile(from)
	if err != nil {
		return plan.Plan{}, fmt.Errorf("reading the content: %w", err)
	}
	in := reset.Input{
		Site:    s,
		Depot:   d.points.DepotPath(),
		Now:     d.now(),
		By:      d.who,
		Choices: reset.Choices{Database: true, Feed: &reset.Feed{Path: from, Sum: tree.Hash(blake3.Sum256(text))}},
	}
	var out stack.Brought
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		_, out, err = stack.ContentsOf(st).Bring(ctx, snap, s.Database.Prefix, bytes.NewReader(text))
		return err
	})
	if err != nil {
		return plan.Plan{}, err
	}
	in.Stays = []plan.Part{
		{What: "all that is there"},
		{What: "items of the file that are there already", Rows: int64(out.Skipped)},
	}
	p := reset.Plan(in)
	p.Goes = nil
	p.Rows = int64(out.Items)
	p.Findings = append(
		p.Findings,
		site.Finding{
			Severity: site.Note,
			Code:     "brings",
			Text:     fmt.Sprintf("%d items and %d comments come", out.Items, out.Comments),
			Remedy: "pictures' files are not in such a file: bring them with alibi points extract, or " +
				"from an archive",
		},
	)
	for _, a := range out.Unknown {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "author",
				Text: "nobody here is called " + a + ": the first account becomes the author of what " + a +
					" wrote",
			},
		)
	}
	if out.Items == 0 {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Block,
				Code:     plan.Nothing,
				Text:     "the file has nothing that is not there already",
				Remedy:   "nothing need be done",
			},
		)
	}
	p.Sort()
	return p, nil
}
