package tables

import (
	"context"
	"fmt"
)

// Server is a database server, reached as one of its accounts.
type Server interface {
	fmt.Stringer
	// Identity is the same for two ways to the same server.
	Identity(ctx context.Context) (string, error)
	// Databases names the databases that the account sees.
	Databases(ctx context.Context) ([]string, error)
	// MayMake tells whether the account may make databases and accounts.
	MayMake(ctx context.Context) (bool, error)
	// LetsIn tells whom the server lets in beside the owner of a database.
	LetsIn(ctx context.Context, database, owner string) (LetIn, error)
	// As is the same server, reached as another account.
	As(user, password string) Server
	// Open opens one of the server's databases.
	Open(database string, p Prefix) Writable
	// Edit changes a database that may be in use.
	Edit(database string) Edit
	// Target fills a database. Views, triggers, routines and events are made as the
	// account owner, which becomes their definer.
	Target(database string, owner Server, p Prefix) Target
	// MakeDatabase makes a database and the account that owns it. Either may be there
	// already; the account then gets the password.
	MakeDatabase(ctx context.Context, database, charset, collation string, a Account) error
	// DropDatabase removes a database; one that is not there is no error.
	DropDatabase(ctx context.Context, database string) error
	// DropAccount removes an account wherever it may connect from.
	DropAccount(ctx context.Context, account string) error
	// DropUnder removes the tables of a database that are stored with a prefix.
	DropUnder(ctx context.Context, database, prefix string) error
	// Fork makes the tables of one database anew in another, which is empty, without
	// their rows leaving the server.
	Fork(ctx context.Context, from, to string) error
}

// Frequented is a server that tells who else is connected to it.
type Frequented interface {
	// Others gives the numbers of the connections that other programs have to a database by the same account.
	Others(ctx context.Context, database string) ([]int64, error)
}

// Able is a server that tells what it can do.
type Able interface {
	Abilities(ctx context.Context) (Abilities, error)
}

// Abilities are what a server has.
type Abilities struct {
	Version    string
	Collations map[string]bool // that it knows, by name
	Packet     int64           // bytes that a statement or a row may have at most
	Modes      string          // how strict it is, by its own names
	Folds      bool            // names of tables are the same in upper and lower case
}

// Distinct is a server that can be told from others.
type Distinct interface {
	// Self is where it is, as it says, and how many statements it was asked since it was started.
	Self(ctx context.Context) (where string, asked int64, err error)
}

// Account is a database account of a copy's own: it may do everything in its
// databases and nothing elsewhere.
type Account struct {
	Name     string
	Password string
	From     []string // where it may connect from, as the server sees it: "localhost", "127.0.0.1", "%"
}

// LetIn names accounts of a server, each as NAME@HOST.
type LetIn struct {
	Unguarded []string // which need no password
	// Database may read the database by a grant on it; those with rights over the whole server are not named.
	Database []string
}

// Prefix is a look at those tables of a database that are stored with one prefix, by
// names with another one. The zero value looks at all tables.
type Prefix struct{ Name, Stored string }

// PartLoader is a target whose tables can be loaded in parts, side by side.
type PartLoader interface {
	Target
	// LoadPart fills a range of a table in one transaction, and notes under mark that
	// it is there; what a broken-off load left of the range is removed first.
	LoadPart(ctx context.Context, table, mark string, r Range, next func(put func(Row) error) error) error
	// Loaded notes that a table is loaded whole.
	Loaded(ctx context.Context, table string) error
}

// InsideLoader is a target that its server can fill by itself from another database.
type InsideLoader interface {
	Target
	// Inside fills a table from one of the same name in the database from of the same
	// server, without its rows leaving it, with texts exchanged for others on the way,
	// part by part, so that the other table is locked for moments only. finish sets right
	// in one transaction what is to be different still; until that is done the table is
	// not marked as loaded.
	Inside(ctx context.Context, table, from string, parts []Range, exchange [][2]string,
		finish func(Inner) error) error
	// Exchanged gives what Inside has the server do to a row of a table.
	Exchanged(table string, exchange [][2]string) func(Row) Row
}

// Inner is a table that was copied inside the server and is not finished yet.
type Inner interface {
	// Total counts the rows of a range as they are now, and adds up the first halves of
	// their digests, modulo 2^64.
	Total(ctx context.Context, r Range) (rows int64, sum uint64, err error)
	// Sums gives key and digest of each row of a range as it is now.
	Sums(ctx context.Context, r Range, give func(key []Value, d Digest) error) error
	// Remove removes the rows with these keys.
	Remove(ctx context.Context, keys [][]Value) error
	// Replace puts rows in place of those with their keys.
	Replace(ctx context.Context, next func(put func(Row) error) error) error
}
