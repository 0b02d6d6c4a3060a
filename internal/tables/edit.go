package tables

import (
	"context"
	"errors"
	"slices"
)

// Wanted is the state that a database is to have. What it does not name stays as it is.
type Wanted struct {
	Tables []WantedTable
	// Digest digests rows as the engine does that gives them; nil: they are not compared
	// with those that are there.
	Digest func(table string, r Row, buf []byte) (Digest, []byte)
	After  []Object // what is to hang on the tables
	Hangs  bool     // After is all that is to hang on them; else what hangs there stays
	Lower  bool     // tables may give lower numbers to their next rows than now
}

// WantedTable is one table as it is to be.
type WantedTable struct {
	Name  string
	Table *Table // nil: it goes
	Empty bool   // it has no rows
	Least int64  // it has at least so many
	// Fixed says that its rows do not depend on those that are there: they are added up as they are brought.
	Fixed bool
	// Rows gives the rows, the same ones each time; none of them is kept.
	Rows func(ctx context.Context, give func(Row) error) error
	// Sums gives key and digest of the same rows, of a range, in any order, and Pick those with some keys, where that
	// takes less than to give all of them; nil: it does not. What they are given is valid during a call.
	Sums func(ctx context.Context, r Range, give func(key []Value, d Digest) error) error
	Pick func(ctx context.Context, keys [][]Value, give func(Row) error) error
	// Groups adds the same rows up, as a Grouper; of a group in which something is found, it is not known what it adds up
	// to. nil: it can't.
	Groups func(ctx context.Context, per int64, give func(Group) error) (bool, error)
}

// Table finds a table by name.
func (w Wanted) Table(name string) (WantedTable, bool) {
	i := slices.IndexFunc(w.Tables, func(t WantedTable) bool { return t.Name == name })
	if i < 0 {
		return WantedTable{}, false
	}
	return w.Tables[i], true
}

// Hanging gives what is to be dropped before tables change, and what is to be made
// afterwards; with all, triggers too that stay, so that none is set off meanwhile.
func (w Wanted) Hanging(now Schema, all bool) (drop, hang []Object) {
	want := now.After
	if w.Hangs {
		want = w.After
	}
	differs := func(o Object, from []Object) bool {
		same := slices.ContainsFunc(from, func(x Object) bool {
			return x.Kind == o.Kind && x.Name == o.Name && x.SQL == o.SQL
		})
		return !same || all && o.Kind == "trigger"
	}
	for _, o := range now.After {
		if differs(o, want) {
			drop = append(drop, o)
		}
	}
	for _, o := range want {
		if differs(o, now.After) {
			hang = append(hang, o)
		}
	}
	return drop, hang
}

// Edit changes a database that may be in use, in a way that can be rolled back until it is
// committed. Each of its steps can be broken off anywhere and done again, by another process
// too; Rollback and Commit do nothing where there is nothing to be done.
type Edit interface {
	// Separate tells that what hangs on tables is changed by Objects; else it comes with
	// the tables themselves.
	Separate() bool
	// Objects drops some of what hangs on the tables, and makes others. Nobody may be
	// reading the tables, ourselves included.
	Objects(ctx context.Context, drop, hang []Object) error
	// Stage makes all that differs from the state that the database is in: single rows at
	// once, in one transaction, and the rest beside what is in use.
	Stage(ctx context.Context, now Snapshot, w Wanted, tell func(rows, tables int64)) (Staged, error)
	// Exchange gives what was made beside its place, all at one moment. Nobody may be
	// reading the tables.
	Exchange(ctx context.Context) error
	// Rollback brings the tables back that were there before. Triggers must be dropped.
	Rollback(ctx context.Context) error
	// Commit makes what is in place final.
	Commit(ctx context.Context) error
	Close() error
}

// Patcher is an edit that can change rows, or all rows of a table, in one transaction.
type Patcher interface {
	Edit
	// Patchable tells whether a database of one schema can be made equal to one of
	// another by changing rows only, with nothing else set off by that.
	Patchable(from, to Schema) bool
	// Patch changes rows of the tables given. What it changed can be rolled back until
	// it is committed.
	Patch(ctx context.Context, list []Table, change func(Patch) error) error
	// SetNext sets the numbers that tables give to their next rows from what they are to
	// what is wanted; with onlyRaise, none becomes lower.
	SetNext(ctx context.Context, is, want Schema, onlyRaise bool) error
}

// Patch is a change of rows in a database, all in one transaction.
type Patch interface {
	// Rows removes the rows with the keys in touched, as far as they are there, and puts
	// others. Every row that is put has one of these keys, or one that no row has. The
	// table has a key.
	Rows(t Table, touched [][]Value, next func(put func(Row) error) error) error
	// Whole puts other rows in place of all that a table has.
	Whole(t Table, next func(put func(Row) error) error) error
}

// Transactor is an edit that changes single rows of a database which others write to meanwhile.
type Transactor interface {
	Edit
	// Transactional tells whether rows of a table can be changed so.
	Transactional(t Table) bool
	// Transact has change look at rows and change them. Others see all of it at one moment when change gives nil,
	// and nothing of it ever when it gives an error.
	Transact(ctx context.Context, change func(Transaction) error) error
}

// Transaction is a change of single rows.
type Transaction interface {
	// Lock gives the rows that have these keys as they are now, and keeps others from changing them until the end.
	Lock(t Table, keys [][]Value, give func(Row) error) error
	// Put puts rows that are not there; ErrTaken if one with such a key is.
	Put(t Table, rows []Row) error
	// Set gives the row that has a key other values.
	Set(t Table, key []Value, row Row) error
	// Remove removes rows by their keys.
	Remove(t Table, keys [][]Value) error
	// Exec runs a statement in the engine's language.
	Exec(statement string) error
}

// ErrTaken is given for a row whose key another row has.
var ErrTaken = errors.New("another row has its key")

// Staged counts what was made.
type Staged struct {
	Rows    int // exchanged one by one
	Patched int // tables of which single rows were exchanged
	Whole   int // tables exchanged whole
	// Sums add up the rows of tables that are fixed, as they were given; none where the engine compares nothing.
	Sums map[string]Sum
}

// Sum is what rows add up to.
type Sum struct {
	Rows int64  `json:"rows"`
	Sum  uint64 `json:"sum"` // of the first halves of their digests, modulo 2^64, as of Summer.Total
}
