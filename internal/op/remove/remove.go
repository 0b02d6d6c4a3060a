// Package remove ends copies: it takes an expired one off the air, brings it
// back while its grace lasts, and removes it with everything that was made for it.
package remove

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/inventory"
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
	dir := env.CopyDir(s.Name)
	p.Steps = []plan.Step{{Name: "remove", Title: "remove files and tables"}}
	p.Writes = []string{"removes folder " + dir, "nothing on the origin"}
	if changes > 0 {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "lost", Text: fmt.Sprintf("%d changes made here are nowhere else", changes), Remedy: "copy the copy first if they are worth keeping"})
	}
	if s.Lease.Held {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Warn, Code: "held", Text: "it is held: " + s.Lease.Reason, Remedy: "ask " + s.Lease.By + " first"})
	}
	return p, nil
}

// New makes the operation of a run.
func New(env *op.Env, r plan.Run) (*work.Operation, error) {
	s := r.Plan.Target
	return &work.Operation{Steps: []work.Step{{Name: "remove", Do: func(ctx context.Context, t *work.Task) error {
		if err := env.Erase(ctx, s.ID, env.CopyDir(s.Name)); err != nil {
			return err
		}
		hours := int(env.Now().Sub(s.MadeAt).Hours() + 0.5)
		t.Result("%s freed, after %d h", site.Size(s.Bytes()), hours)
		return env.Record.Log(ctx, inventory.Event{At: env.Now(), Who: r.By, Site: s.ID, Kind: "remove", Text: fmt.Sprintf("removed for good, after %d h", hours)})
	}}}, Over: func(ctx context.Context, r plan.Run) error {
		if r.State == plan.Done {
			return nil
		}
		_, err := env.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
			s.Run = ""
			return nil
		})
		return err
	}}, nil
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
			return fmt.Errorf("%s is expired already; it will be removed %s", s.Name, s.Lease.Noticed.Add(s.Lease.Grace).Format(time.DateTime))
		case s.Run != "":
			return fmt.Errorf("a run (%s) is at work on %s; cancel it first", s.Run, s.Name)
		}
		s.State, s.Lease.Held, s.Lease.Noticed = site.Expired, false, now
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
	return s, env.Record.Log(ctx, inventory.Event{At: now, Who: who, Site: id, Kind: "expire", Text: why})
}

// BringBack puts an expired copy on the air again with a new lease.
func BringBack(ctx context.Context, env *op.Env, id site.ID, lease time.Duration, who string) (site.Site, error) {
	s, err := env.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.State != site.Expired {
			return fmt.Errorf("%s is %s: only an expired copy can be brought back", s.Name, s.State)
		}
		s.State, s.Lease = site.Ready, site.Begin(env.Now(), lease, s.Lease.Grace)
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, env.Record.Log(ctx, inventory.Event{At: env.Now(), Who: who, Site: id, Kind: "bring-back", Text: "brought back for " + lease.String()})
}

// Leftover is something that Alibi made and that no site needs any more.
type Leftover struct {
	Host  string `json:"host"`
	Path  string `json:"path"`
	Why   string `json:"why"`
	Bytes int64  `json:"bytes"`
}

// Leftovers lists them: what the record knows of without a site, and what lies
// in Alibi's folders without being in the record.
func Leftovers(ctx context.Context, env *op.Env) ([]Leftover, error) {
	var out []Leftover
	sites, err := env.Record.Sites(ctx)
	if err != nil {
		return nil, err
	}
	needed := map[string]bool{}
	for _, s := range sites {
		if s.Role == site.Copy {
			needed[env.CopyDir(s.Name)] = true
		}
	}
	made, err := env.Record.AllMade(ctx)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, m := range made {
		if !needed[m.Path] {
			seen[m.Path] = true
			out = append(out, Leftover{m.Host, m.Path, "no site needs it any more", weight(m.Path)})
		}
	}
	dir := filepath.Join(env.Home, "copies")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("looking for leftovers: %w", err)
	}
	for _, e := range entries {
		if p := filepath.Join(dir, e.Name()); !needed[p] && !seen[p] {
			out = append(out, Leftover{env.Local, p, "it is not in the record", weight(p)})
		}
	}
	for _, p := range env.DeadTemps() {
		out = append(out, Leftover{env.Local, p, "a process left it that is not running any more", weight(p)})
	}
	for _, s := range sites {
		for _, part := range []string{"next", "old"} {
			p := filepath.Join(env.CopyDir(s.Name), part)
			if _, err := os.Lstat(p); err == nil && s.Role == site.Copy && s.Run == "" {
				out = append(out, Leftover{env.Local, p, "left by a run that did not end", weight(p)})
			}
		}
	}
	return out, nil
}

func weight(dir string) int64 {
	var n int64
	_ = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if fi, err := d.Info(); err == nil {
				n += fi.Size()
			}
		}
		return nil
	})
	return n
}

// Clear removes leftovers. Only what lies in Alibi's own folder can be one.
func Clear(ctx context.Context, env *op.Env, list []Leftover, who string) error {
	for _, l := range list {
		rel, err := filepath.Rel(env.Home, l.Path)
		if err != nil || strings.HasPrefix(rel, "..") || l.Host != env.Local {
			return fmt.Errorf("%s is not in Alibi's folder: remove it by hand", l.Path)
		}
		if err := os.RemoveAll(l.Path); err != nil {
			return fmt.Errorf("removing a leftover: %w", err)
		}
		if err := env.Record.Unmade(ctx, l.Host, l.Path); err != nil {
			return err
		}
		if err := env.Record.Log(ctx, inventory.Event{At: env.Now(), Who: who, Kind: "leftovers", Text: "removed " + l.Path}); err != nil {
			return err
		}
	}
	return nil
}
