package mysql

import "alibi/internal/tables"

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
