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
