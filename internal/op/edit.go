package op

import (
	"context"
	"fmt"

	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// Edit opens a site's own database to be changed by a run that has claimed the site for itself.
// What it makes beside the database gets names that begin with mark, if it makes files.
func (e *Env) Edit(ctx context.Context, run string, s site.Site, mark string) (tables.Edit, error) {
	if err := e.claimed(ctx, run, s); err != nil {
		return nil, err
	}
	if s.Database.Served() {
		srv, err := e.own(ctx, s, true)
		if err != nil {
			return nil, err
		}
		return srv.Edit(s.Database.Name), nil
	}
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	edit, err := engines.EditFile(ctx, engines.Where{Host: h, Database: s.Database, Temp: e.Temp()}, mark, s.PlacedAt)
	if err != nil {
		return nil, fmt.Errorf("the database of %s: %w", s.Name, err)
	}
	return edit, nil
}

// own is the server of a site's own database, as the account by which it is changed: that of
// a copy's own database, or the one that the site itself uses.
func (e *Env) own(ctx context.Context, s site.Site, writes bool) (tables.Server, error) {
	if s.Role == site.Copy && !s.Database.Beside() {
		srv, err := e.Server(ctx, s.Host)
		if err != nil {
			return nil, err
		}
		return srv.As(s.Database.User, e.Password(s.ID)), nil
	}
	return e.asItself(ctx, s, s.Database, writes)
}

// asItself is the server of a database, reached as a site's own code reaches it: where that is through a relay,
// by one that writes, or only reads.
func (e *Env) asItself(ctx context.Context, s site.Site, db site.Database, writes bool) (tables.Server, error) {
	st, err := e.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	place, err := e.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer place.Root.Close()
	w := stack.Where(ctx, st, place, db)
	w.Writes = writes
	return engines.Own(ctx, w)
}

// Others gives the numbers of the connections that a live site's own code has to its database now.
func (e *Env) Others(ctx context.Context, s site.Site) ([]int64, error) {
	srv, err := e.asItself(ctx, s, s.Database, false)
	if err != nil {
		return nil, err
	}
	if f, can := srv.(tables.Frequented); can {
		return f.Others(ctx, s.Database.Name)
	}
	return nil, nil
}

// Abilities tell what the server of a site's database can do; nil where that is not known.
func (e *Env) Abilities(ctx context.Context, s site.Site) (*tables.Abilities, error) {
	srv, err := e.asItself(ctx, s, s.Database, false)
	if err != nil {
		return nil, err
	}
	return AbilitiesOf(ctx, srv)
}

// AbilitiesOn is the same of the server on which sites of a host get their databases.
func (e *Env) AbilitiesOn(ctx context.Context, hostName string) (*tables.Abilities, error) {
	srv, err := e.Server(ctx, hostName)
	if err != nil {
		return nil, err
	}
	return AbilitiesOf(ctx, srv.Server)
}

// ServerAs is the server of a database on a host, reached with the password of the account that owns that.
func (e *Env) ServerAs(ctx context.Context, hostName string, db site.Database, password string) (tables.Server, error) {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	return engines.Server(ctx, h, db.Server, db.User, password), nil
}

// AbilitiesOf tell what a server can do; nil where that is not known.
func AbilitiesOf(ctx context.Context, srv tables.Server) (*tables.Abilities, error) {
	able, can := srv.(tables.Able)
	if !can {
		return nil, nil
	}
	a, err := able.Abilities(ctx)
	return &a, err
}
