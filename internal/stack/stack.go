// Package stack is understanding a kind of site: what is in it, how its values
// are to be changed for a copy, and how its configuration is. A stack reads;
// it never runs the site's code.
package stack

import (
	"context"
	"fmt"
	"path"
	"strings"

	"alibi/internal/host"
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/sqlite"
)

// Place is an opened site.
type Place struct {
	Host host.Host
	Root host.Root
	Temp string // folder of this machine for snapshots
}

// Stack understands one kind of site.
type Stack interface {
	Name() string
	// Is tells whether the place holds such a site.
	Is(ctx context.Context, p Place) bool
	// Inspect gathers the facts, reading only.
	Inspect(ctx context.Context, p Place) (*site.Facts, error)
	// Scope says what is meant in a column: prose or settings.
	Scope(table, column string) rewrite.Scope
	// Adjust changes a row of a copy beyond its addresses, in place, and counts
	// the values that it changed.
	Adjust(c Change, t tables.Table, row tables.Row) int
	// Configure gives the files of the copy that differ from the origin's, by
	// path, with their new contents.
	Configure(ctx context.Context, origin Place, c Change) (map[string][]byte, error)
}

// Change is what is to be different in a copy.
type Change struct {
	Origin   site.Facts
	Copy     site.Site
	Rewriter *rewrite.Rewriter
	Title    bool // say in the title that it is a copy
}

// Quiet tells whether the copy keeps a rule.
func (c Change) Quiet(r site.Rule) bool {
	for _, q := range c.Copy.Quiet {
		if q == r {
			return true
		}
	}
	return false
}

// TitleMark stands before the title of a copy.
const TitleMark = "[copy] "

// OpenDatabase opens a site's database on its host.
func OpenDatabase(ctx context.Context, h host.Host, db site.Database, temp string) (*sqlite.File, error) {
	if db.Engine != "sqlite" {
		return nil, fmt.Errorf("this version of Alibi can't read a %s database yet: %w", db.Engine, tables.ErrRefused)
	}
	root, err := h.Open(ctx, path.Dir(db.Path))
	if err != nil {
		return nil, err
	}
	return sqlite.Open(root, path.Base(db.Path), temp), nil
}

// Inside gives the path of an absolute name below root.
func Inside(root, name string) (string, bool) {
	rest, ok := strings.CutPrefix(path.Clean(name), strings.TrimRight(root, "/")+"/")
	return rest, ok
}

// Largest is the size from which a single file is worth a remark, in bytes.
const Largest = 64 << 20
