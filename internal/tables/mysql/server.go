package mysql

import (
	"cmp"
	"context"
	"fmt"
	"strconv"

	"alibi/internal/tables"
)

var _ tables.Server = Login{}

// As is the same server, reached as another account.
func (l Login) As(user, password string) tables.Server {
	l.User, l.Password = user, password
	return l
}

// Open opens one of the server's databases. Without a prefix, Alibi's own tables in it
// are not seen.
func (l Login) Open(database string, p tables.Prefix) tables.Writable {
	d := Open(l, database)
	if p != (tables.Prefix{}) {
		return d.Under(p.Name, p.Stored)
	}
	return d
}

// Target fills a database of the server. It is a tables.PartLoader and a
// tables.InsideLoader too.
func (l Login) Target(database string, owner tables.Server, p tables.Prefix) tables.Target {
	return NewTarget(l, owner.(Login), database).Under(p.Name, p.Stored)
}

// Others gives the connections that other programs have to a database by the same account. Those that rest for longer
// than a page may take to be made are none: somebody keeps them open.
func (l Login) Others(ctx context.Context, database string) (out []int64, err error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	list, err := records(ctx, db, "SELECT ID FROM information_schema.PROCESSLIST WHERE USER = "+
		"SUBSTRING_INDEX(CURRENT_USER(), '@', 1) AND DB = ? AND ID <> CONNECTION_ID() AND NOT (COMMAND = 'Sleep' AND "+
		"TIME > 30)", database)
	if err != nil {
		return nil, fmt.Errorf("looking who is connected to %s: %w", database, explain(err))
	}
	for _, r := range list {
		n, err := strconv.ParseInt(r["ID"], 10, 64)
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// Abilities asks what the server has, by its own tables and settings.
func (l Login) Abilities(ctx context.Context) (a tables.Abilities, err error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return a, err
	}
	defer db.Close()
	list, err := records(ctx, db, "SELECT @@version AS V, @@max_allowed_packet AS P, @@sql_mode AS M, "+
		"@@lower_case_table_names AS L")
	if err != nil {
		return a, fmt.Errorf("asking %s what it can do: %w", l, explain(err))
	}
	a.Version, a.Modes, a.Folds = list[0]["V"], list[0]["M"], list[0]["L"] != "0"
	if a.Packet, err = strconv.ParseInt(list[0]["P"], 10, 64); err != nil {
		return a, err
	}
	// MariaDB since 10.10 has collations for several character sets, whose full names stand here only.
	list, err = records(ctx, db, "SELECT * FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY")
	if err != nil {
		return a, fmt.Errorf("asking %s which collations it knows: %w", l, explain(err))
	}
	a.Collations = map[string]bool{}
	for _, r := range list {
		a.Collations[cmp.Or(r["FULL_COLLATION_NAME"], r["COLLATION_NAME"])] = true
	}
	return a, nil
}

// Self is where the server is, by its own variables, and its count of statements.
func (l Login) Self(ctx context.Context) (where string, asked int64, err error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return "", 0, err
	}
	defer db.Close()
	list, err := records(ctx, db, "SELECT CONCAT_WS('|', @@hostname, @@port, @@socket, @@datadir) AS S")
	if err == nil {
		where = list[0]["S"]
		asked, err = questions(ctx, db)
	}
	if err != nil {
		return "", 0, fmt.Errorf("asking %s where it is: %w", l, explain(err))
	}
	return where, asked, nil
}
