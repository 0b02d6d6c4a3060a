package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"alibi/internal/depot"
	"alibi/internal/op/clone"
	"alibi/internal/op/keep"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// RestoreInput gathers what a plan of bringing a site back to one of its restore
// points is made of; it compares the two.
func (d *Points) RestoreInput(ctx context.Context, p Point, c reset.Choices) (reset.Input, error) {
	s, err := d.record.Site(ctx, p.Site.ID)
	if err != nil {
		return reset.Input{}, fmt.Errorf("the site of restore point %s: %w; make a copy of the point instead: alibi "+
			"points copy %s", p.ID, err, p.ID)
	}
	if s.State == site.Gone {
		return reset.Input{}, fmt.Errorf("%s is gone; make a copy of the point instead: alibi points copy %s", s.Name,
			p.ID)
	}
	in := reset.Input{Site: s, Point: &p.Point, Choices: c, Depot: d.DepotPath(), Now: d.now(), By: d.who}
	in.Choices.Point = p.ID
	if in.Choices.Paths, err = reset.Paths(c.Paths); err != nil {
		return in, err
	}
	for _, name := range c.Tables {
		if !slices.ContainsFunc(p.Tables, func(k depot.Kept) bool { return k.Name == name }) {
			return in, fmt.Errorf("restore point %s has no table %s", p.ID, name)
		}
	}
	in.Unique = d.unique(ctx, s)
	changes, err := d.Since(ctx, p)
	if err != nil {
		return in, err
	}
	in.Goes, in.Stays = d.restored(s, changes, in.Choices)
	if c.Files && s.Role == site.Live {
		in.Findings = append(in.Findings, d.foreign(ctx, s, changes.Files)...)
	}
	return in, nil
}

// foreign says of which files that would be put back our account on the host is
// not the owner: only an administrator may give a file away.
func (d *core) foreign(ctx context.Context, s site.Site, list []keep.FileChange) []site.Finding {
	h, err := d.host(ctx, s.Host)
	if err != nil {
		return nil // what can't be reached is said elsewhere
	}
	out, err := h.Command(ctx, "id", "-u")
	ours := strings.TrimSpace(string(out))
	if err == nil && ours == "0" {
		return nil
	}
	n, first := 0, ""
	for _, f := range list {
		if f.Was != nil && f.What != keep.Added && (err != nil || strconv.Itoa(f.Was.User) != ours) {
			if n++; first == "" {
				first = f.Path
			}
		}
	}
	if n == 0 {
		return nil
	}
	return []site.Finding{
		{Severity: site.Warn, Code: "owner",
			Text: fmt.Sprintf("%s belong to another account than ours on %s, the first: %s; our account may not give "+
				"them back to it", site.Plural(int64(n), "file", "files"), s.Host, first),
			Remedy: "reach the host as an account that may (root), so that they keep their owner; if one would be " +
				"closed to the web server, the run refuses before it changes anything"},
	}
}

// unique counts the changes on a copy that are nowhere else, now.
func (d *core) unique(ctx context.Context, s site.Site) int {
	if s.Role != site.Copy {
		return 0
	}
	if a, err := d.copies.Apart(ctx, s.ID); err == nil {
		return a.Copy
	}
	return s.Apart.Copy
}

// restored says what goes and what stays when what became of a site since a
// restore point is taken back.
func (d *core) restored(s site.Site, ch *keep.Changes, c reset.Choices) (goes, stays []plan.Part) {
	if c.Files {
		n := map[string]int64{}
		for _, f := range ch.Files {
			if len(c.Paths) == 0 ||
				slices.ContainsFunc(c.Paths, func(p string) bool {
					return f.Path == p || len(f.Path) > len(p) && f.Path[:len(p)+1] == p+"/"
				}) {
				n[f.What]++
			}
		}
		for _, w := range []struct{ what, text, note string }{{keep.Added, "files added since", "they go"},
			{keep.Changed, "files changed since", "they become what they were"},
			{keep.Removed, "files removed since", "they come back"},
			{keep.Access, "files and folders that others may use now",
				"owner, mode and access lists become what they were"}} {
			if n[w.what] > 0 {
				goes = append(goes, plan.Part{What: w.text, Files: n[w.what], Note: w.note})
			}
		}
		stays = append(stays, plan.Part{What: "files that did not change", Files: ch.Same.Files})
	} else {
		stays = append(stays, plan.Part{What: "all files"})
	}
	if c.Database {
		for _, t := range ch.Tables {
			if len(c.Tables) == 0 || slices.Contains(c.Tables, t.Name) {
				goes = append(
					goes,
					plan.Part{
						What: "table " + t.Name,
						Rows: t.Added + t.Changed + t.Removed,
						Note: fmt.Sprintf("%d rows added, %d changed, %d removed since", t.Added, t.Changed, t.Removed),
					},
				)
			}
		}
		stays = append(stays, plan.Part{What: "rows that did not change", Rows: ch.Same.Rows})
	} else if s.Database.Engine != "" {
		stays = append(stays, plan.Part{What: "the whole database"})
	}
	return goes, stays
}

// PlanRestore says what bringing a site back to one of its restore points, or a
// part of it, will do.
func (d *Points) PlanRestore(ctx context.Context, p Point, c reset.Choices) (plan.Plan, error) {
	in, err := d.RestoreInput(ctx, p, c)
	if err != nil {
		return plan.Plan{}, err
	}
	return reset.Plan(in), nil
}

// ErrNoSuchLeftover is given for a name that stands on none of the folders of plugins, themes and uploads.
var ErrNoSuchLeftover = errors.New("nothing of that name is there")

// MadePoint is the restore point that has a copy as it was made.
func (d *Points) MadePoint(ctx context.Context, s site.Site) (Point, error) {
	list, _, err := d.Points(ctx, s.ID)
	if err != nil {
		return Point{}, err
	}
	if i := slices.IndexFunc(list, func(p Point) bool { return p.Why == clone.AsMade }); i >= 0 {
		return list[i], nil
	}
	return Point{}, fmt.Errorf(
		"of %s no restore point was taken when it was made (alibi copy --keep); bring it in line with its origin, or "+
			"to one of its or its origin's restore points",
		s.Name,
	)
}

// Left lists what a site has that a reset may leave over: plugins, themes, uploads.
func (d *Copies) Left(ctx context.Context, s site.Site) ([]stack.Leftover, error) {
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	return reset.Leftovers(ctx, st, p)
}

// CleanInput gathers what a plan of cleaning a site is made of. The password of
// the administrator, if one is given, goes no further than its digest.
func (d *Copies) CleanInput(ctx context.Context, id site.ID, c reset.Clean, password string) (reset.Input, error) {
	s, err := d.fresh(ctx, id)
	if err != nil {
		return reset.Input{}, err
	}
	if password != "" {
		if c.Wish.Admin.Hash, err = accountHash(password); err != nil {
			return reset.Input{}, err
		}
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return reset.Input{}, err
	}
	if err := knownTrims(st, c.Wish.Trim); err != nil {
		return reset.Input{}, err
	}
	if c.Wish.At = d.now(); c.Wish.All && c.Wish.Theme == "" {
		c.Wish.Theme = stack.ContentsOf(st).BareTheme(*s.Facts)
	}
	if !c.Wish.All { // then the theme that is on stays on
		for _, t := range s.Facts.Themes {
			if t.State == "parent" {
				c.Except = append(c.Except, t.Slug)
			} else if t.State == "active" {
				c.Wish.Theme = t.Slug
			}
		}
	}
	in := reset.Input{
		Site:    s,
		Depot:   d.points.DepotPath(),
		Now:     d.now(),
		By:      d.who,
		Choices: reset.Choices{Clean: &c, Files: len(c.Tidy) > 0 || stack.TrimsFiles(st, c.Wish.Trim), Database: c.Tables()},
	}
	in.Unique = d.unique(ctx, s)
	list, _, err := d.points.Points(ctx, id)
	if err != nil {
		return in, err
	}
	in.First = len(list) == 0
	left, err := d.Left(ctx, s)
	if err != nil {
		return in, err
	}
	if err := known(st, left, c); err != nil {
		return in, err
	}
	for _, p := range left {
		part := plan.Part{What: p.Path, Files: p.Files, Bytes: p.Bytes}
		if c.Goes(p) {
			in.Goes = append(in.Goes, part)
		} else {
			in.Stays = append(in.Stays, part)
		}
	}
	in.Stays = append(in.Stays, plan.Part{What: "the code of the CMS, its address, its configuration and its host"})
	if !c.Tables() {
		return in, nil
	}
	goes, stays, err := d.counted(ctx, s, c.Wish)
	if err != nil {
		return in, err
	}
	in.Goes, in.Stays = append(goes, in.Goes...), append(stays, in.Stays...)
	if !stack.TrimsFiles(st, c.Wish.Trim) {
		return in, nil
	}
	weights, err := d.weighedFiles(ctx, s)
	for _, w := range weights {
		if w.Count > 0 && slices.Contains(c.Wish.Trim, w.Name) {
			in.Goes = append(in.Goes, plan.Part{What: "files: " + w.Name, Files: w.Count, Bytes: w.Bytes})
		}
	}
	return in, err
}

// known tells whether folders and exceptions are there.
func known(st stack.Stack, list []stack.Leftover, c reset.Clean) error {
	for _, t := range c.Tidy {
		if !slices.ContainsFunc(stack.ContentsOf(st).LeftFolders(),
			func(s stack.LeftFolder) bool { return s.Name == t }) {
			return fmt.Errorf("%q: %w: a site has plugins, themes and uploads", t, ErrNoSuchLeftover)
		}
	}
	for _, x := range c.Except {
		if !slices.ContainsFunc(list, func(p stack.Leftover) bool { return p.Name == x }) {
			return fmt.Errorf("%q: %w, so it can't be kept; see what is left: alibi reset SITE --left", x,
				ErrNoSuchLeftover)
		}
	}
	return nil
}

func (d *core) counted(ctx context.Context, s site.Site, w stack.Wish) (goes, stays []plan.Part, err error) {
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		owns := func(string) bool { return true }
		if s.Role == site.Live && s.Database.Served() {
			owns = st.Owns(snap.Schema(), s.Database.Prefix)
		}
		goes, stays, err = reset.Counted(ctx, st, snap, s.Database.Prefix, w, owns)
		return err
	})
	return goes, stays, err
}

// accountHash digests a password in a form that every version of the CMS takes.
func accountHash(password string) (string, error) {
	if len(password) < 8 {
		return "", errors.New("the administrator's password is too short: at least 8 characters")
	}
	h, err := bcrypt.GenerateFromPassword([]byte(password), 10)
	if err != nil {
		return "", fmt.Errorf("the administrator's password: %w", err)
	}
	return "$2y$" + strings.TrimPrefix(string(h), "$2a$"), nil // the same, by the name that PHP has for it
}

// PlanClean says what cleaning a site will do.
func (d *Copies) PlanClean(ctx context.Context, id site.ID, c reset.Clean, password string) (plan.Plan, error) {
	in, err := d.CleanInput(ctx, id, c, password)
	if err != nil {
		return plan.Plan{}, err
	}
	return reset.Plan(in), nil
}

// LayInput gathers what a plan of laying another site over a copy is made of: the
// copy keeps its name, address and lease, and becomes a copy of that site.
func (d *Copies) LayInput(ctx context.Context, id, other site.ID) (clone.Input, clone.Choices, error) {
	return d.refreshInput(ctx, id, func(s site.Site) (clone.Input, error) {
		if other == s.ID {
			return clone.Input{}, fmt.Errorf("%s can't be laid over itself", s.Name)
		}
		return d.CopyInput(ctx, other)
	})
}

// PlanLay says what laying another site over a copy will do.
func (d *Copies) PlanLay(ctx context.Context, id, other site.ID) (plan.Plan, error) {
	in, c, err := d.LayInput(ctx, id, other)
	if err != nil {
		return plan.Plan{}, err
	}
	return d.PlanFrom(in, c), nil
}
