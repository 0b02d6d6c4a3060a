// Package remove ends copies: it takes an expired one off the air, brings it
// back while its grace lasts, and removes it with everything that was made for it.
package remove

import (
	"context"
	"fmt"
	"time"

	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// Plan says what removing a copy for good will do.
func Plan(env *op.Env, s site.Site, changes int) (plan.Plan, error) {
	p := plan.Plan{Kind: plan.Remove, At: env.Now(), Origin: s, Target: s, Detail: []byte("{}"), Bytes: s.Bytes()}
	if s.Role != site.Copy {
		return p, fmt.Errorf("%s is a live site: Alibi removes only copies", s.Name)
	}
	p.Steps = []plan.Step{{Name: "remove", Title: "remove files and tables"}}
	p.Writes = []string{"removes folder " + op.Folder(s)}
	if s.Host != env.Local {
		p.Writes[0] += " on " + s.Host
	}
	if s.Database.Served() {
		p.Writes = append(p.Writes, "removes database and account "+s.Database.Text())
	}
	p.Writes = append(p.Writes, "nothing on the origin")
	p.Loses = changes
	p.Confirm = consent(p, s)
	if changes > 0 {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "lost",
				Text:     site.Plural(changes, "change made here is", "changes made here are") + " nowhere else",
				Remedy:   "copy the copy first if that work is worth keeping",
			},
		)
	}
	if s.Lease.Held {
		p.Findings = append(
			p.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "held",
				Text:     "it is held: " + s.Lease.Reason,
				Remedy:   "ask " + s.Lease.By + " first",
			},
		)
	}
	return p, nil
}

// Operation is that of removing a copy for good.
func Operation(env *op.Env) work.Definition {
	return work.Definition{
		Kind:    plan.Remove,
		Claims:  plan.Plan.AloneOn,
		Consent: consent,
		Forward: true,
		Begin: func(_ context.Context, r plan.Run) (*work.Operation, error) {
			s := r.Plan.Target
			return &work.Operation{
				Steps: work.Each(map[string]work.Do{"remove": func(ctx context.Context, t *work.Task) error {
					if err := env.Erase(ctx, s.ID, s.Name); err != nil {
						return err
					}
					hours := int(env.Now().Sub(s.MadeAt).Hours() + 0.5)
					t.Result("%s freed, after %d h", site.Size(s.Bytes()), hours)
					t.Entry("removed for good, after %d h", hours)
					return nil
				}}),
			}, nil
		},
	}
}

// consent asks for no name where a copy's lease and its grace are over.
func consent(p plan.Plan, target site.Site) string {
	if p.Ends {
		return ""
	}
	return p.OverConsent(target)
}

// Expire takes a copy off the air now. It can be brought back until its grace
// is over.
func Expire(ctx context.Context, env *op.Env, id site.ID, who, why string) (site.Site, error) {
	now := env.Now()
	s, err := env.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		switch {
		case s.Role != site.Copy:
			return fmt.Errorf("%s is a live site: it has no lease to end", s.Name)
		case s.State == site.Expired:
			return fmt.Errorf("%s is expired already; it will be removed %s", s.Name,
				s.Lease.Noticed.Add(s.Lease.Grace).Format(time.DateTime))
		case s.Run != "":
			return fmt.Errorf("a run (%s) is at work on %s; cancel it first", s.Run, s.Name)
		}
		s.State, s.Lease.Held, s.Lease.Noticed, s.EndedAt = site.Expired, false, now, now
		if s.Lease.Ends.IsZero() || s.Lease.Ends.After(now) {
			s.Lease.Ends = now
		}
		if s.Lease.Grace == 0 {
			s.Lease.Grace = env.Grace
		}
		return nil
	})
	if err != nil {
		return s, err
	}
	if err := env.Log(ctx, who, id, "expire", "%s", why); err != nil {
		return s, err
	}
	return s, unpoint(ctx, env, id, who)
}

// unpoint takes the live names away that lead to an expired copy on this machine. Where that may not be
// done by us, it is said in the history.
func unpoint(ctx context.Context, env *op.Env, id site.ID, who string) error {
	all, err := env.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range all {
		if m.Site != id || m.Kind != "names" {
			continue
		}
		text := "no live name leads to it any more"
		if err := env.Unmake(ctx, m); err != nil {
			text = fmt.Sprintf("live names lead to it still: %v", err)
		} else if _, err := env.Record.ChangeSite(ctx, id, func(s *site.Site) error {
			s.Pointed = nil
			return nil
		}); err != nil {
			return err
		}
		if err := env.Log(ctx, who, id, "names", "%s", text); err != nil {
			return err
		}
	}
	return nil
}

// BringBack puts an expired copy on the air again with a new lease.
func BringBack(ctx context.Context, env *op.Env, id site.ID, lease time.Duration, who string) (site.Site, error) {
	s, err := env.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.State != site.Expired {
			return fmt.Errorf("%s is %s: only an expired copy can be brought back", s.Name, s.State)
		}
		s.State, s.EndedAt, s.Lease = site.Ready, time.Time{}, site.Begin(env.Now(), lease, s.Lease.Grace)
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, env.Log(ctx, who, id, "bring-back", "brought back for %s", lease)
}
