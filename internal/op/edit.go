package op

import (
	"context"
	"fmt"
	"path"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
	"alibi/internal/tables/sqlite"
)

// Edit opens a site's own database to be changed by a run. What it makes beside the database
// gets names that begin with mark, if it makes files.
func (e *Env) Edit(ctx context.Context, s site.Site, mark string) (tables.Edit, error) {
	if s.Database.Engine == "mysql" {
		login, err := e.ownLogin(ctx, s)
		if err != nil {
			return nil, err
		}
		return login.Edit(s.Database.Name), nil
	}
	h, err := e.Hosts(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	dir, err := h.Open(ctx, path.Dir(s.Database.Path))
	if err != nil {
		return nil, fmt.Errorf("the database of %s: %w", s.Name, err)
	}
	return sqlite.NewEdit(dir, path.Base(s.Database.Path), mark, e.Temp(), s.PlacedAt), nil
}

// ownLogin is the account by which a site's own database is changed: that of a copy's own
// database, or the one that the site itself uses.
func (e *Env) ownLogin(ctx context.Context, s site.Site) (mysql.Login, error) {
	if s.Role == site.Copy && !s.Database.Beside() {
		srv, err := e.Server(ctx, s.Host)
		if err != nil {
			return mysql.Login{}, err
		}
		l := srv.Login
		l.User, l.Password = s.Database.User, e.Password(s.ID)
		return l, nil
	}
	st, err := e.Stack(s.Stack)
	if err != nil {
		return mysql.Login{}, err
	}
	place, err := e.Place(ctx, s.Host, s.Root)
	if err != nil {
		return mysql.Login{}, err
	}
	defer place.Root.Close()
	password, err := st.Password(ctx, place)
	if err != nil {
		return mysql.Login{}, err
	}
	return stack.Login(ctx, place.Host, s.Database.Server, s.Database.User, password), nil
}
