// Package plain understands any document root, with or without a database file
// in it, as far as one can without knowing what it is.
package plain

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"strings"
	"time"

	"alibi/internal/ballast"
	"alibi/internal/host"
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

// Adjust knows of nothing to adjust.
func (Stack) Adjust(stack.Change, tables.Table, tables.Row) int { return 0 }

// Touches names nothing.
func (Stack) Touches(string, string) (string, []string) { return "", nil }

// Keyed names none.
func (Stack) Keyed(string, string) string { return "" }

// Choose knows of no kinds.
func (Stack) Choose(context.Context, tables.Snapshot, site.Facts, []site.Kind) (stack.Keeper, error) {
	return nil, nil
}

// Accounts knows of none.
func (Stack) Accounts(context.Context, tables.Snapshot, string) ([]stack.Account, error) {
	return nil, nil
}

// Account knows of none.
func (Stack) Account(
	context.Context,
	tables.Snapshot,
	string,
	stack.AccountWish,
) (func(tables.Table) stack.Cleanup, error) {
	return nil, errors.New("of this kind of site Alibi knows no accounts")
}

// Ballast can't be made up where content is not known.
func (Stack) Ballast(
	context.Context,
	tables.Snapshot,
	site.Facts,
	ballast.Load,
	time.Time,
) (func(tables.Table) stack.Cleanup, error) {
	return nil, errNoContent
}

// BallastFiles are none.
func (Stack) BallastFiles(ballast.Load) map[string][]byte { return nil }

// BallastFolder is none.
func (Stack) BallastFolder() string { return "" }

// Password knows of none: a database of a plain site is a file.
func (Stack) Password(context.Context, stack.Place) (string, error) { return "", nil }

// Configure knows of no configuration.
func (Stack) Configure(context.Context, stack.Place, stack.Change) (map[string][]byte, error) {
	return nil, nil
}

// FirstConfig is none.
func (Stack) FirstConfig(host.Tree) ([]byte, error) {
	return nil, errors.New("a site without a CMS has no core to begin with")
}

// FirstForm is none.
func (Stack) FirstForm(_, _, _, _ string) (string, url.Values) { return "", nil }

// Notice knows of no file that a web server shows in place of all pages.
func (Stack) Notice(site.Front) map[string][]byte { return nil }

// Owns takes every table for the site's.
func (Stack) Owns(tables.Schema, string) func(string) bool { return func(string) bool { return true } }

// PutBack knows of no content.
func (Stack) PutBack(
	context.Context,
	tables.Snapshot,
	tables.Snapshot,
	string,
	stack.Content,
) (func(string) (drop, bring stack.Rows), error) {
	return nil, errors.New("of this kind of site Alibi knows no kinds of content: choose tables instead")
}

// Clean knows of nothing that could be told from the site itself.
func (Stack) Clean(context.Context, tables.Snapshot, string, stack.Wish) (func(tables.Table) stack.Cleanup, error) {
	return nil, errors.New("of this kind of site nothing tells what is content: bring it to a restore point or to " +
		"its origin instead")
}

// Personal takes columns for what they are called.
func (Stack) Personal(_ string, own map[string]scrub.Kind) scrub.Rules { return scrub.Columns(own) }

// EmptyCaches knows of no kept results.
func (Stack) EmptyCaches(string, tables.Table) stack.Cleanup { return stack.Cleanup{} }

// ObjectCache is none.
func (Stack) ObjectCache() (on, off string) { return "", "" }

// LeftFolders are none.
func (Stack) LeftFolders() []stack.LeftFolder { return nil }

// BareTheme is none.
func (Stack) BareTheme(site.Facts) string { return "" }

// Redact knows of no secrets.
func (Stack) Redact(string) stack.Redaction {
	return stack.Redaction{
		Has:  func(string) bool { return false },
		Row:  func(_ tables.Table, r tables.Row) tables.Row { return r },
		Same: func(tables.Table, tables.Row, tables.Row) bool { return true },
	}
}

var errNoContent = errors.New("of this kind of site Alibi knows no kinds of content")

// Export knows of no content.
func (Stack) Export(context.Context, tables.Snapshot, string, []site.Kind, io.Writer) (int, error) {
	return 0, errNoContent
}

// Bring knows of no content.
func (Stack) Bring(
	context.Context,
	tables.Snapshot,
	string,
	io.Reader,
) (func(tables.Table) stack.Cleanup, stack.Brought, error) {
	return nil, stack.Brought{}, errNoContent
}

// Identify finds no components: a site without a CMS has none.
func (Stack) Identify(host.Tree, string) (site.ComponentKind, site.Component, bool) {
	return "", site.Component{}, false
}

// Stands knows of no components.
func (Stack) Stands(site.ComponentKind, string) string { return "" }

// Pages gives the first page.
func (Stack) Pages(context.Context, tables.Snapshot, site.Facts) ([]stack.Page, error) {
	return []stack.Page{{Kind: "first page", Path: "/"}}, nil
}

// Declared looks at nothing.
func (Stack) Declared(host.Tree) map[string]bool { return nil }

// CoreFile knows of no core.
func (Stack) CoreFile(string) bool { return false }

// Switch changes nothing.
func (Stack) Switch(
	context.Context,
	tables.Snapshot,
	string,
	stack.Switches,
) (func(tables.Table) stack.Cleanup, error) {
	return func(tables.Table) stack.Cleanup { return stack.Cleanup{} }, nil
}
