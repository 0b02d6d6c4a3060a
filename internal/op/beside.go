package op

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/inventory"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// TablesPath names the tables of a copy without a database of its own in the
// list of what was made.
func TablesPath(db site.Database) string { return madePath("tables", db.Name+"#"+db.Prefix) }

// Beside gives the account by which a copy's tables are made in its origin's
// database: the origin's own. What will be made is noted first.
func (e *Env) Beside(ctx context.Context, s site.Site) (tables.Server, error) {
	if err := e.Record.AddMade(ctx, inventory.Made{Site: s.ID, Kind: "tables", Host: s.Host,
		Path: TablesPath(s.Database), At: e.Now()}); err != nil {
		return nil, err
	}
	return e.ofOrigin(ctx, s)
}

// ofOrigin is the server of a copy's database, reached as the copy's origin reaches it.
func (e *Env) ofOrigin(ctx context.Context, s site.Site) (tables.Server, error) {
	origin, err := e.Record.Site(ctx, s.Origin)
	if err != nil {
		return nil, err
	}
	return e.asItself(ctx, origin, s.Database, true)
}

// dropBeside removes the tables of a copy from its origin's database.
func (e *Env) dropBeside(ctx context.Context, id site.ID, what string) error {
	s, err := e.Record.Site(ctx, id)
	if err != nil {
		return err
	}
	database, prefix, _ := strings.Cut(what, "#")
	l, err := e.ofOrigin(ctx, s)
	if err != nil {
		return fmt.Errorf("removing the tables %s... from the database %s: %w", prefix, database, err)
	}
	return l.DropUnder(ctx, database, prefix)
}
