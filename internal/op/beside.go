package op

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/inventory"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables/mysql"
)

// TablesPath names the tables of a copy without a database of its own in the
// list of what was made.
func TablesPath(db site.Database) string { return madePath("tables", db.Name+"#"+db.Prefix) }

// Beside gives the account by which a copy's tables are made in its origin's
// database: the origin's own. What will be made is noted first.
func (e *Env) Beside(ctx context.Context, s site.Site) (mysql.Login, error) {
	if err := e.Record.AddMade(ctx, inventory.Made{Site: s.ID, Kind: "tables", Host: s.Host, Path: TablesPath(s.Database), At: e.Now()}); err != nil {
		return mysql.Login{}, err
	}
	return e.originLogin(ctx, s)
}

func (e *Env) originLogin(ctx context.Context, s site.Site) (mysql.Login, error) {
	origin, err := e.Record.Site(ctx, s.Origin)
	if err != nil {
		return mysql.Login{}, err
	}
	st, err := e.Stack(origin.Stack)
	if err != nil {
		return mysql.Login{}, err
	}
	p, err := e.Place(ctx, origin.Host, origin.Root)
	if err != nil {
		return mysql.Login{}, err
	}
	defer p.Root.Close()
	password, err := st.Password(ctx, p)
	if err != nil {
		return mysql.Login{}, err
	}
	return stack.Login(ctx, p.Host, s.Database.Server, s.Database.User, password), nil
}

// dropBeside removes the tables of a copy from its origin's database.
func (e *Env) dropBeside(ctx context.Context, id site.ID, what string) error {
	s, err := e.Record.Site(ctx, id)
	if err != nil {
		return err
	}
	database, prefix, _ := strings.Cut(what, "#")
	l, err := e.originLogin(ctx, s)
	if err != nil {
		return fmt.Errorf("removing the tables %s... from the database %s: %w", prefix, database, err)
	}
	return l.DropUnder(ctx, database, prefix)
}
