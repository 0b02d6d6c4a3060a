package remove

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/host/local"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/site"
)

// Leftover is something that Alibi made and that no site needs any more.
type Leftover struct {
	Host  string `json:"host"`
	Kind  string `json:"kind"` // "folder", "database", "account"
	Path  string `json:"path"` // for a database or an account, its kind, ":" and its name
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
	needed, known, busy := map[string]bool{}, map[site.ID]site.Site{}, map[string]bool{}
	for _, s := range sites {
		if s.Run != "" {
			busy[s.Host+":"+s.Root] = true
		}
		if s.Role == site.Copy {
			needed[env.CopyDir(s.Name)] = true
			known[s.ID] = s
		}
	}
	made, err := env.Record.AllMade(ctx)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, m := range made {
		s, used := known[m.Site]
		if id, ok := strings.CutPrefix(string(m.Site), op.TrialPrefix); ok {
			r, err := env.Record.Run(ctx, id)
			used = err == nil && !r.State.Over()
		}
		if m.Kind == "database" && s.Name != "" && used {
			used = s.Run != "" || m.Path == "database:"+s.Database.Name
		}
		if m.Kind == "tables" && s.Name != "" && used {
			used = s.Run != "" || m.Path == op.TablesPath(s.Database)
		}
		if m.Kind == "names" && s.Name != "" && used {
			used = s.Pointed != nil
		}
		if m.Kind == op.WritingRelay {
			used = busy[m.Host+":"+filepath.Dir(m.Path)]
		}
		if !used {
			seen[m.Path] = true
			why := "no site needs it any more"
			switch m.Kind {
			case op.ReadingRelay:
				why = "it is put there again where a site's database is to be read through it"
			case op.BroughtRelay:
				why = "it is put there again where the host is to be reached"
			}
			out = append(out, Leftover{m.Host, m.Kind, m.Path, why, local.Size(m.Path)})
		}
	}
	slices.SortStableFunc(out, func(a, b Leftover) int { // what reaches others goes last
		return site.Either(a.Kind == op.BroughtRelay, 1, 0) - site.Either(b.Kind == op.BroughtRelay, 1, 0)
	})
	dir := filepath.Join(env.Home, "copies")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("looking for leftovers: %w", err)
	}
	for _, e := range entries {
		if p := filepath.Join(dir, e.Name()); !needed[p] && !seen[p] {
			out = append(out, Leftover{env.Local, "folder", p, "it is not in the record", local.Size(p)})
		}
	}
	for _, p := range env.DeadTemps() {
		out = append(out, Leftover{env.Local, "folder", p, "a process left it that is not running any more",
			local.Size(p)})
	}
	for _, s := range sites {
		for _, part := range []string{"next", "old", "former"} {
			p := filepath.Join(env.CopyDir(s.Name), part)
			if _, err := os.Lstat(p); err == nil && s.Role == site.Copy && s.Run == "" {
				out = append(out, Leftover{env.Local, "folder", p, "left by a run that did not end", local.Size(p)})
			}
		}
	}
	return out, nil
}

// Clear removes leftovers. Only what Alibi noted when it made it, or what lies
// in its own folder, can be one.
func Clear(ctx context.Context, env *op.Env, list []Leftover, who string) error {
	made, err := env.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	var all error
	for _, l := range list {
		rel, err := filepath.Rel(env.Home, l.Path)
		inside := err == nil && !strings.HasPrefix(rel, "..") && l.Host == env.Local
		m := inventory.Made{Kind: "folder", Host: l.Host, Path: l.Path}
		noted := false
		for _, have := range made {
			if have.Host == l.Host && have.Path == l.Path {
				m, noted = have, true
			}
		}
		if !inside && !noted {
			all = errors.Join(all, fmt.Errorf("%s is not in Alibi's folder: remove it by hand", l.Path))
			continue
		}
		if err := env.Unmake(ctx, m); err != nil {
			all = errors.Join(all, fmt.Errorf("removing a leftover: %w", err))
			continue
		}
		if err := env.Log(ctx, who, "", "leftovers", "removed %s", l.Path); err != nil {
			return errors.Join(all, err)
		}
	}
	return all
}
