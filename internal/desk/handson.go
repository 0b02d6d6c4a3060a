package desk

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/ballast"
	"alibi/internal/baseline"
	"alibi/internal/evidence"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// planHandsOn says what a change of a site will do that brings no component.
func (d *core) planHandsOn(ctx context.Context, s site.Site, c reset.Change, goes []plan.Part) (plan.Plan, error) {
	in := reset.Input{
		Site:    s,
		Depot:   d.points.DepotPath(),
		Now:     d.now(),
		By:      d.who,
		Goes:    goes,
		Stays:   []plan.Part{{What: "all else"}},
		Choices: reset.Choices{Change: &c, Files: c.Files(), Database: c.Rows()},
	}
	list, _, err := d.points.Points(ctx, s.ID)
	if err != nil {
		return plan.Plan{}, err
	}
	in.First = len(list) == 0
	return reset.Plan(in), nil
}

// onCopy gives a copy with facts.
func (d *core) onCopy(ctx context.Context, id site.ID, what string) (site.Site, error) {
	s, err := d.fresh(ctx, id)
	if err == nil && s.Role != site.Copy {
		return s, fmt.Errorf("%s is a live site: %s on copies only; make one: alibi copy %s", s.Name, what, s.Name)
	}
	return s, err
}

// PlanBallast says what making content up on a copy, or taking it out again, will
// do.
func (d *Hands) PlanBallast(ctx context.Context, id site.ID, l ballast.Load) (plan.Plan, error) {
	s, err := d.onCopy(ctx, id, "content is made up")
	if err != nil {
		return plan.Plan{}, err
	}
	at := d.now()
	var rows, gone int64
	var parts []plan.Part
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) error {
		f := *s.Facts
		f.Prefix = s.Database.Prefix
		of, err := stack.FillerOf(st).Ballast(ctx, snap, f, l, at)
		if err != nil {
			return err
		}
		for _, t := range snap.Schema().Tables {
			k := of(t)
			rows += int64(len(k.Add))
			n := int64(0)
			if k.Row != nil && l.Remove {
				if n, err = going(ctx, snap, t, k); err != nil {
					return err
				}
			}
			gone += n
			if c := int64(len(k.Add)); c+n > 0 {
				parts = append(
					parts,
					plan.Part{
						What: "table " + t.Name,
						Rows: c + n,
						Note: site.Either(l.Remove, "go", "come"),
					},
				)
			}
		}
		if n := len(stack.FillerOf(st).BallastFiles(l)); n > 0 && !l.Remove {
			parts = append(parts, plan.Part{What: "pictures in " + stack.FillerOf(st).BallastFolder(), Files: int64(n),
				Note: "come"})
		}
		return nil
	})
	if err != nil {
		return plan.Plan{}, err
	}
	if rows+gone == 0 {
		return plan.Plan{}, fmt.Errorf("%s: %w", s.Name, ErrNothingToChange)
	}
	p, err := d.planHandsOn(ctx, s, reset.Change{Ballast: &l, Words: l.Words()}, parts)
	p.At = at
	p.Findings = append(
		p.Findings,
		site.Finding{
			Severity: site.Note,
			Code:     "ballast",
			Text:     fmt.Sprintf("the same seed (%d) makes the same up", l.Seed),
			Remedy:   "all of it goes at once: alibi ballast " + s.Name + " --remove",
		},
	)
	return p, err
}

// PlanScrub says what having a copy's people made up will do.
func (d *Hands) PlanScrub(ctx context.Context, id site.ID) (plan.Plan, error) {
	s, err := d.onCopy(ctx, id, "people are made up")
	if err != nil {
		return plan.Plan{}, err
	}
	if s.Database.Engine == "" {
		return plan.Plan{}, fmt.Errorf("%s has no database", s.Name)
	}
	var parts []plan.Part
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) error {
		sc := d.env.Scrubber(st, s)
		if err := sc.From(ctx, snap); err != nil {
			return err
		}
		for _, t := range snap.Schema().Tables {
			n := int64(0)
			if err := snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
				r = tables.Row{Key: r.Key, Values: slices.Clone(r.Values)}
				if sc.Row(t, r) > 0 {
					n++
				}
				return ctx.Err()
			}); err != nil {
				return err
			}
			if n > 0 {
				parts = append(parts, plan.Part{What: "table " + t.Name, Rows: n, Note: "with people in them"})
			}
		}
		return nil
	})
	if err != nil {
		return plan.Plan{}, err
	}
	if len(parts) == 0 {
		return plan.Plan{}, fmt.Errorf("nothing on %s is anybody's: %w", s.Name, ErrNothingToChange)
	}
	p, err := d.planHandsOn(ctx, s, reset.Change{Scrub: true, Words: "made-up people"}, parts)
	p.Findings = append(
		p.Findings,
		site.Finding{
			Severity: site.Warn,
			Code:     "point",
			Text:     "the restore point that is taken first holds people's data as they are",
			Remedy:   "forget it when you are content: alibi points forget",
		},
		site.Finding{
			Severity: site.Note,
			Code:     "files",
			Text:     "files are not looked through",
			Remedy:   "leave exports and uploads with people's data out of the copy: alibi copy --skip FOLDER",
		},
	)
	p.Sort()
	return p, err
}

// PeopleLeft looks on a copy for what its origin has of people.
func (d *Hands) PeopleLeft(ctx context.Context, id site.ID) (evidence.Check, error) {
	s, err := d.onCopy(ctx, id, "people are looked for")
	if err != nil {
		return evidence.Check{}, err
	}
	o, err := d.record.Site(ctx, s.Origin)
	if err != nil {
		return evidence.Check{}, err
	}
	if o.State == site.Gone {
		return evidence.Check{}, fmt.Errorf("the origin of %s is gone: nobody knows who its people were", s.Name)
	}
	b, err := baseline.Open(filepath.Join(d.env.CopyDir(s.Name), "now", "baseline.db"))
	if err != nil {
		return evidence.Check{}, err
	}
	defer b.Close()
	typed, err := b.Typed(ctx)
	if err != nil {
		return evidence.Check{}, err
	}
	var out evidence.Check
	err = d.database(ctx, o, func(st stack.Stack, was tables.Snapshot) error {
		sc := d.env.Scrubber(st, o)
		if err := sc.From(ctx, was); err != nil {
			return err
		}
		return d.database(ctx, s, func(_ stack.Stack, now tables.Snapshot) (err error) {
			out, err = evidence.Personal(ctx, sc, now, typed)
			return err
		})
	})
	if err != nil {
		return out, err
	}
	return out, d.log(ctx, id, "people", "looked for people of %s: %s", o.Name, out.Copy)
}

// Accounts lists those under which one can sign in to a site, administrators
// first.
func (d *Hands) Accounts(ctx context.Context, id site.ID) ([]stack.Account, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	return stack.ReadAccounts(ctx, st, p, s.Database)
}

// PlanAccount says what adding an account to a copy, or changing one, will do.
func (d *Hands) PlanAccount(ctx context.Context, id site.ID, login, role, mail, password string) (plan.Plan, error) {
	s, err := d.onCopy(ctx, id, "accounts are changed")
	if err != nil {
		return plan.Plan{}, err
	}
	w := stack.AccountWish{Login: strings.TrimSpace(login), Role: role, Mail: mail, At: d.now()}
	if !site.GoodSlug(strings.ReplaceAll(w.Login, "@", "")) {
		return plan.Plan{}, fmt.Errorf("%q can't be the name of an account: letters, digits, . - _ and @", login)
	}
	if mail != "" && !strings.Contains(mail, "@") {
		return plan.Plan{}, fmt.Errorf("%q is no mail address", mail)
	}
	if password != "" {
		if w.Hash, err = accountHash(password); err != nil {
			return plan.Plan{}, err
		}
	}
	if w.Role == "" && w.Mail == "" && w.Hash == "" {
		return plan.Plan{}, errors.New("say what the account is to have: a role, a mail address or a password")
	}
	if err := d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) error {
		_, err := stack.PeopleOf(st).Account(ctx, snap, s.Database.Prefix, w)
		return err
	}); err != nil {
		return plan.Plan{}, err
	}
	list, err := d.Accounts(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	is := slices.ContainsFunc(list, func(a stack.Account) bool { return a.Login == w.Login })
	what := site.Either(is, "changes", "comes")
	return d.planHandsOn(ctx, s, reset.Change{Account: &w,
		Words: "the account " + w.Login + site.Either(is, " changed", "")},
		[]plan.Part{{What: "account " + w.Login, Note: what}})
}
