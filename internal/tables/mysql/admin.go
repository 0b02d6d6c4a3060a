package mysql

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/tables"
)

// user writes an account's name into a statement.
func user(n, from string) string {
	return string(quote(nil, []byte(n))) + "@" + string(quote(nil, []byte(from)))
}

// pattern is a database's name in a GRANT, where _ and % stand for others.
func pattern(database string) string {
	return name(strings.NewReplacer(`_`, `\_`, `%`, `\%`).Replace(database))
}

// MakeDatabase makes a database and the account that owns it. Either may be
// there already; the account then gets the password.
func (l Login) MakeDatabase(ctx context.Context, database, charset, collation string, a tables.Account) error {
	q := "CREATE DATABASE IF NOT EXISTS " + name(database)
	if plainWord(charset) && plainWord(collation) {
		q += " CHARACTER SET " + charset + " COLLATE " + collation
	}
	list := []string{q}
	for _, from := range a.From {
		u, secret := user(a.Name, from), " IDENTIFIED BY "+string(quote(nil, []byte(a.Password)))
		list = append(list, "CREATE USER IF NOT EXISTS "+u+secret, "ALTER USER "+u+secret,
			"GRANT ALL PRIVILEGES ON "+pattern(database)+".* TO "+u)
	}
	return l.do(ctx, "making the database "+database, list)
}

func plainWord(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_") == ""
}

// DropDatabase removes a database; one that is not there is no error.
func (l Login) DropDatabase(ctx context.Context, database string) error {
	return l.do(ctx, "removing the database "+database, []string{"DROP DATABASE IF EXISTS " + name(database)})
}

// DropAccount removes an account wherever it may connect from.
func (l Login) DropAccount(ctx context.Context, account string) error {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return err
	}
	defer db.Close()
	list, err := records(ctx, db, "SELECT Host AS H FROM mysql.user WHERE User = ?", account)
	if err != nil {
		return fmt.Errorf("removing the account %s: %w", account, err)
	}
	var drops []string
	for _, r := range list {
		drops = append(drops, "DROP USER IF EXISTS "+user(account, r["H"]))
	}
	return l.do(ctx, "removing the account "+account, drops)
}

func (l Login) do(ctx context.Context, what string, statements []string) error {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, q := range statements {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("%s as %s: %w", what, l, explain(err))
		}
	}
	return nil
}

// Identity tells servers apart: two logins with the same one reach the same.
func (l Login) Identity(ctx context.Context) (string, error) {
	if l.Through != nil {
		return "through " + l.String(), nil // whatever it is, it can't be reached otherwise
	}
	db, err := l.pool("", 1, nil)
	if err != nil {
		return "", err
	}
	defer db.Close()
	var id string
	err = db.QueryRowContext(ctx, "SELECT CONCAT_WS(' ', @@hostname, @@datadir, @@socket, @@port)").Scan(&id)
	if err != nil {
		return "", fmt.Errorf("asking the database server at %s: %w", l.Addr, explain(err))
	}
	return id, nil
}

// Databases lists what the account sees, the server's own left aside.
func (l Login) Databases(ctx context.Context) ([]string, error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	list, err := records(
		ctx,
		db,
		"SELECT SCHEMA_NAME AS N FROM information_schema.SCHEMATA WHERE SCHEMA_NAME NOT IN ('mysql', "+
			"'information_schema', 'performance_schema', 'sys')",
	)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range list {
		out = append(out, r["N"])
	}
	return out, nil
}

// LetsIn tells whom the server lets in beside the owner of a database, by its own tables of accounts. (A role has
// no host, and nobody signs in as one; what PUBLIC may, all may.)
func (l Login) LetsIn(ctx context.Context, database, owner string) (tables.LetIn, error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return tables.LetIn{}, err
	}
	defer db.Close()
	ask := func(q string, args ...any) (out []string, err error) {
		list, err := records(ctx, db, q, args...)
		for _, r := range list {
			out = append(out, r["U"]+"@"+r["H"])
		}
		return out, err
	}
	var in tables.LetIn
	in.Unguarded, err = ask("SELECT User AS U, Host AS H FROM mysql.user WHERE Host <> '' AND " +
		"authentication_string = '' AND plugin IN ('', 'mysql_native_password', 'caching_sha2_password', " +
		"'sha256_password') ORDER BY User, Host")
	if err == nil {
		in.Database, err = ask("SELECT User AS U, Host AS H FROM mysql.db WHERE ? LIKE Db AND Select_priv = 'Y' AND "+
			"User <> ? ORDER BY User, Host", database, owner)
	}
	if err != nil {
		return tables.LetIn{}, fmt.Errorf("asking %s whom it lets in: %w", l, explain(err))
	}
	return in, nil
}

// MayMake tells whether an account may make databases and accounts: it is
// asked for by its grants, nothing is tried.
func (l Login) MayMake(ctx context.Context) (bool, error) {
	db, err := l.pool("", 1, nil)
	if err != nil {
		return false, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "SHOW GRANTS")
	if err != nil {
		return false, explain(err)
	}
	defer rows.Close()
	makes, grants := false, false
	for rows.Next() {
		var g string
		if err := rows.Scan(&g); err != nil {
			return false, err
		}
		g = strings.ToUpper(g)
		if !strings.Contains(g, " ON *.* ") {
			continue
		}
		all := strings.HasPrefix(g, "GRANT ALL PRIVILEGES")
		makes = makes || all || strings.Contains(g, "CREATE,") || strings.Contains(g, "CREATE ON")
		grants = grants || (all || strings.Contains(g, "CREATE USER")) && strings.Contains(g, "WITH GRANT OPTION")
	}
	return makes && grants, rows.Err()
}
