// Package state brings a site to a wanted state where it stands: files, rows, and what hangs on
// tables.
//
// New files are staged beside those in use, and new tables too. Then they are exchanged, each file
// in one step, and all of it is compared with what was wanted. Until Commit, RollBack gives the site
// what it had before, to the byte. Each part can be called again after it was broken off anywhere.
package state

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"alibi/internal/host"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// ErrDiffers says that a site is not what it should be after all.
var ErrDiffers = errors.New("the site is not what it should be")

// ErrGone says that a wanted file went before it was brought.
var ErrGone = errors.New("it went meanwhile")

// Wanted is the state that a site is to have. What is outside of its scope stays
// as it is.
type Wanted struct {
	From    host.Tree    // where new files are read; nil: no file changes
	Entries []tree.Entry // as they are to be, folders too
	InScope func(path string) bool
	Hash    func(path string) tree.Hash // of a wanted file; nil: not known
	// Known gives the site's files as they were digested once, by path, if that is known; nil: it is not.
	Known func(context.Context) (map[string]tree.Entry, error)
	Exact bool // entries say who may use them; else see access

	DB tables.Wanted
}

// Ends is a site as it stands, and as it is to be.
type Ends struct {
	Root   host.Tree
	Filter tree.Filter // of what is no part of its state
	// List gives the list of its files as they are now, by that filter; nil: they are listed.
	List     func(ctx context.Context) (*tree.Listing, error)
	Want     *Wanted
	Snapshot func(ctx context.Context) (tables.Snapshot, error) // of its own tables
	Close    func()                                             // may be called again
}

// Memory is what has to be known to go on, or to roll back, after a death.
type Memory struct {
	Hung   []tables.Object `json:"hung,omitempty"`   // what hung on the tables before
	Looked bool            `json:"looked,omitempty"` // at what hung there, which may be nothing
	Came   []string        `json:"came,omitempty"`   // files and folders that were not there before
	// folders that became files (false), and files that became folders
	Turned  map[string]bool `json:"turned,omitempty"`
	Forged  []string        `json:"forged,omitempty"`  // files that look as they are to be, and hold something else
	Ungiven []string        `json:"ungiven,omitempty"` // entries that our account may not give to their owners
	Folders []tree.Entry    `json:"folders,omitempty"` // whose access was changed, as they were

	Alike bool `json:"-"` // no file differed when they were staged, by this process

	Sums map[string]tables.Sum `json:"sums,omitempty"` // of the rows that were brought, by table
}

// Task is told how far it is, and keeps Memory. A work.Task is one.
type Task interface {
	Add(units, items int64)
	Expect(units int64)
	Note(format string, a ...any)
	// Memorize changes Memory.
	Memorize(change func())
	// Remember keeps it now.
	Remember() error
}

// Maker brings one site to a state. Folders are named by their paths below the site's root.
type Maker struct {
	ID        string // begins the names of what it makes
	HasTables bool   // tables are exchanged too
	Memory    *Memory
	Open      func(ctx context.Context) (*Ends, error)
	Write     func(ctx context.Context, dir string) (host.Root, error)
	Look      func(ctx context.Context, dir string) (host.Tree, error)
	Edit      func(ctx context.Context, aside string) (tables.Edit, error) // aside is its folder for what it stages
	Schema    func(ctx context.Context) (tables.Schema, error)             // as the tables are now
}

// Compared is what was found to be as it was wanted.
type Compared struct {
	Rows   int64
	Tables int
	Files  int
}

// Compare compares a site with what it should be; ErrDiffers names the first part that is not.
func (m *Maker) Compare(ctx context.Context, t Task, e *Ends) (Compared, error) {
	c, err := m.differ(ctx, e)
	if err != nil {
		return Compared{}, err
	}
	var wrong []string
	for _, list := range [][]tree.Entry{c.put, tree.OnlyFiles(c.remove)} {
		for _, d := range list {
			if !slices.Contains(m.Memory.Forged, d.Path) {
				wrong = append(wrong, d.Path)
			}
		}
	}
	if len(m.Memory.Forged) > 0 {
		still, err := m.forged(ctx, e)
		if err != nil {
			return Compared{}, err
		}
		wrong = append(wrong, still...)
	}
	out := Compared{Tables: len(e.Want.DB.Tables), Files: len(tree.OnlyFiles(e.Want.Entries))}
	if out.Tables > 0 {
		n, bad, err := e.compareTables(ctx, t, m.Memory.Sums)
		if err != nil {
			return out, err
		}
		out.Rows, wrong = n, append(wrong, bad...)
	}
	if len(wrong) > 0 {
		return out, fmt.Errorf("%w: %d parts differ, the first is %s", ErrDiffers, len(wrong), wrong[0])
	}
	return out, nil
}

// RollBack gives the site back what it had before.
func (m *Maker) RollBack(ctx context.Context) error {
	if err := m.filesBack(ctx); err != nil {
		return err
	}
	if err := m.tablesBack(ctx); err != nil {
		return err
	}
	return m.Clear(ctx)
}
