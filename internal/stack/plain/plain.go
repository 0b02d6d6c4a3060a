// Package plain understands any document root, with or without a database file
// in it, as far as one can without knowing what it is.
package plain

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"alibi/internal/rewrite"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// Stack is any site.
type Stack struct{}

func (Stack) Name() string { return "plain" }

// Is tells whether there is a page to begin with.
func (Stack) Is(_ context.Context, p stack.Place) bool {
	for _, n := range []string{"index.html", "index.htm", "index.php"} {
		if _, err := p.Root.Lstat(n); err == nil {
			return true
		}
	}
	return false
}

// Inspect measures the files and looks for one database file.
func (s Stack) Inspect(ctx context.Context, p stack.Place) (*site.Facts, error) {
	f := &site.Facts{At: time.Now(), Stack: s.Name()}
	for _, dir := range []string{".", "data", "db", "database", "storage"} {
		list, err := p.Root.ReadDir(dir)
		if err != nil {
			continue
		}
		for _, e := range list {
			name := path.Join(dir, e.Name())
			ext := path.Ext(name)
			if f.Database.Engine == "" && (ext == ".sqlite" || ext == ".sqlite3" || ext == ".db") &&
				engines.IsFile(p.Root, name) {
				f.Database = site.Database{Engine: site.File, Path: path.Join(p.Root.Path(), name)}
			}
		}
	}
	w, err := stack.Measure(ctx, p, f.Database, 1, stack.SpareByName)
	if err != nil {
		return nil, err
	}
	w.Tell(f, nil)
	f.Free, _ = p.Host.Free(ctx, p.Root.Path())
	if f.Database.Engine == "" {
		f.Took = time.Since(f.At)
		return f, nil
	}
	db, err := stack.OpenDatabase(ctx, Stack{}, p, f.Database)
	if err != nil {
		return nil, err
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the database: %w", err)
	}
	defer snap.Close()
	for _, t := range snap.Schema().Tables {
		f.Tables = append(f.Tables, site.Table{Name: t.Name, Rows: t.Rows, Bytes: t.Bytes, Keyless: t.Hidden})
		f.Rows += t.Rows
		f.TableBytes += t.Bytes
	}
	f.Took = time.Since(f.At)
	return f, nil
}

// Scope takes everything for settings except what is called like prose.
func (Stack) Scope(_, column string) rewrite.Scope {
	for _, w := range []string{"body", "content", "text", "comment", "description"} {
		if strings.Contains(strings.ToLower(column), w) {
			return rewrite.Prose
		}
	}
	return rewrite.Settings
}

// Owns takes every table for the site's.
func (Stack) Owns(tables.Schema, string) func(string) bool { return func(string) bool { return true } }

// Personal takes columns for what they are called.
func (Stack) Personal(_ string, own map[string]scrub.Kind) scrub.Rules { return scrub.Columns(own) }

// Pages gives the first page.
func (Stack) Pages(context.Context, tables.Snapshot, site.Facts) ([]stack.Page, error) {
	return []stack.Page{{Kind: "first page", Path: "/"}}, nil
}
