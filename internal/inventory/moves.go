package inventory

import (
	"context"

	"alibi/internal/plan"
	"alibi/internal/site"
)

// Moves lists the sites that are on their way to other places, by the names of the moves.
func (in *Inventory) Moves(ctx context.Context) ([]plan.Move, error) {
	return collect[plan.Move](ctx, in.db, "SELECT doc FROM moves ORDER BY name")
}

// Move finds one.
func (in *Inventory) Move(ctx context.Context, name string) (plan.Move, error) {
	l, err := collect[plan.Move](ctx, in.db, "SELECT doc FROM moves WHERE name = ?", name)
	return one(l, err, "move", name)
}

// NewMove adds a move, and the site's other place.
func (in *Inventory) NewMove(ctx context.Context, m plan.Move, place site.Site) error {
	return in.In(ctx, func(t *Tx) error {
		if err := t.PutSite(ctx, place); err != nil {
			return err
		}
		return t.exec(ctx, "INSERT INTO moves VALUES (?, ?)", m.Name, doc(m))
	})
}

// ChangeMove reads a move, lets change change it and writes it back, in one transaction. An error from change leaves it
// as it was.
func (in *Inventory) ChangeMove(ctx context.Context, name string, change func(*plan.Move) error) (m plan.Move,
	err error) {
	err = in.In(ctx, func(t *Tx) error {
		m, err = t.changeMove(ctx, name, change)
		return err
	})
	return m, err
}

func (t *Tx) changeMove(ctx context.Context, name string, change func(*plan.Move) error) (m plan.Move, err error) {
	if err := t.get(ctx, &m, "move", name, "SELECT doc FROM moves WHERE name = ?", name); err != nil {
		return m, err
	}
	if err := change(&m); err != nil {
		return m, err
	}
	return m, t.exec(ctx, "UPDATE moves SET doc = ? WHERE name = ?", doc(m), name)
}

// SwapPlaces has a site and its other place change places: the site stands where the other place was. It is done once
// for a run, however often it is asked for.
func (in *Inventory) SwapPlaces(ctx context.Context, name, run string, change func(*plan.Move) error) error {
	return in.In(ctx, func(t *Tx) error {
		done := false
		m, err := t.changeMove(ctx, name, func(m *plan.Move) error {
			if n := len(m.Switches); n > 0 && m.Switches[n-1].Run == run {
				done = true
				return nil
			}
			return change(m)
		})
		if err != nil || done {
			return err
		}
		s, err := t.Site(ctx, m.Site)
		if err != nil {
			return err
		}
		other, err := t.Site(ctx, m.Place)
		if err != nil {
			return err
		}
		s.Host, other.Host = other.Host, s.Host
		s.Root, other.Root = other.Root, s.Root
		s.Database, other.Database = other.Database, s.Database
		s.Front, other.Front = other.Front, s.Front
		s.Relay, other.Relay = other.Relay, s.Relay
		s.Web, other.Web = other.Web, s.Web
		s.Facts, other.Facts = other.Facts, s.Facts
		if !m.To.Address.IsZero() {
			s.Addresses, other.Addresses = other.Addresses, s.Addresses
		}
		if err := t.PutSite(ctx, other); err != nil {
			return err
		}
		return t.PutSite(ctx, s)
	})
}

// DropMove takes a move out of the record, and with it the site's other place.
func (in *Inventory) DropMove(ctx context.Context, name string) error {
	return in.In(ctx, func(t *Tx) error {
		var m plan.Move
		if err := t.get(ctx, &m, "move", name, "SELECT doc FROM moves WHERE name = ?", name); err != nil {
			return err
		}
		s, err := t.Site(ctx, m.Place)
		if err != nil {
			return err
		}
		s.State = site.Gone
		if err := t.PutSite(ctx, s); err != nil {
			return err
		}
		return t.exec(ctx, "DELETE FROM moves WHERE name = ?", name)
	})
}
