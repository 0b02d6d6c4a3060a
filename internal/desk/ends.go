package desk

import (
	"cmp"
	"context"
	"slices"
	"time"

	"alibi/internal/depot"
	"alibi/internal/site"
)

// Ending is something that happens to a copy by itself.
type Ending struct {
	Site site.Site `json:"site"`
	Of   string    `json:"of"` // its origin's name
	At   time.Time `json:"at"`
	// Purge tells that it is removed for good then; else it goes off the air, and
	// can be brought back.
	Purge bool `json:"purge"`
}

// Ends lists what ends by itself, the next first: leases, and the grace of copies
// that were deleted or expired.
func (d *Fleet) Ends(ctx context.Context) ([]Ending, error) {
	all, err := d.record.Sites(ctx)
	if err != nil {
		return nil, err
	}
	names := map[site.ID]string{}
	for _, s := range all {
		names[s.ID] = s.Name
	}
	out := []Ending{}
	for _, s := range all {
		e := Ending{Site: s, Of: cmp.Or(names[s.Origin], "a site that is gone"), At: s.Lease.Ends}
		switch {
		case s.Role != site.Copy || s.Lease.Held || s.Lease.Ends.IsZero() || s.State == site.Failed ||
			s.State == site.Making:
			continue
		case s.State == site.Expired:
			e.Purge, e.At = true, s.Lease.Noticed.Add(s.Lease.Grace)
		}
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Ending) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Site.Name, b.Site.Name))
	})
	return out, nil
}

// Deleted lists the copies that were deleted or expired and can be brought back.
func (d *Fleet) Deleted(ctx context.Context) ([]Ending, error) {
	list, err := d.Ends(ctx)
	return slices.DeleteFunc(list, func(e Ending) bool { return !e.Purge }), err
}

// Cost is what a copy has cost, by its host's hourly rate.
type Cost struct {
	Site  site.ID   `json:"site"`
	Name  string    `json:"name"`
	Host  string    `json:"host"`
	From  time.Time `json:"from"`
	Ended time.Time `json:"ended,omitzero"`
	Hours float64   `json:"hours"`
	Rate  float64   `json:"rate"` // an hour
	Cost  float64   `json:"cost"`
	Saved float64   `json:"saved"` // of the lifetime that it was given, by ending it before
}

// Costs is what all copies have cost.
type Costs struct {
	Currency string  `json:"currency"`
	Copies   []Cost  `json:"copies"`
	Cost     float64 `json:"cost"`
	Saved    float64 `json:"saved"`
}

// Costs works out what copies have cost, those that are gone too.
func (d *Fleet) Costs(ctx context.Context) (Costs, error) {
	out := Costs{Currency: d.config.Cost.Currency, Copies: []Cost{}}
	all, err := d.record.AllSites(ctx)
	if err != nil {
		return out, err
	}
	for _, s := range all {
		if s.Role != site.Copy {
			continue
		}
		until := s.EndedAt
		if until.IsZero() {
			until = d.now()
		}
		c := Cost{
			Site:  s.ID,
			Name:  s.Name,
			Host:  s.Host,
			From:  s.MadeAt,
			Ended: s.EndedAt,
			Hours: max(0, until.Sub(s.MadeAt).Hours()),
			Rate:  d.config.Cost.Hosts[s.Host],
		}
		c.Cost = c.Hours * c.Rate
		if planned := s.MadeAt.Add(s.Lease.Length); !s.EndedAt.IsZero() && planned.After(s.EndedAt) {
			c.Saved = planned.Sub(s.EndedAt).Hours() * c.Rate
		}
		out.Copies = append(out.Copies, c)
		out.Cost += c.Cost
		out.Saved += c.Saved
	}
	slices.SortFunc(out.Copies, func(a, b Cost) int { return b.From.Compare(a.From) })
	return out, nil
}

// DepotSize is what the depot keeps of a site.
type DepotSize struct {
	Site   site.ID     `json:"site"`
	Name   string      `json:"name"`
	Points []PointSize `json:"points"` // the oldest first
	Added  int64       `json:"added"`  // by all of them
	Whole  int64       `json:"whole"`  // their size if nothing were shared
}

// PointSize is when a restore point was taken, and what it made the depot grow by.
type PointSize struct {
	At    time.Time `json:"at"`
	Added int64     `json:"added"`
	Whole int64     `json:"whole"`
}

// DepotSizes gives the size of what the depot keeps, by site, the largest first.
func (d *Fleet) DepotSizes(ctx context.Context) ([]DepotSize, error) {
	list, _, err := d.points.Points(ctx, "")
	if err != nil {
		return nil, err
	}
	return sizes(list), nil
}

func sizes(list []Point) []DepotSize {
	by := map[site.ID]*DepotSize{}
	for _, p := range slices.Backward(list) { // the oldest first
		w := by[p.Site.ID]
		if w == nil {
			w = &DepotSize{Site: p.Site.ID}
			by[p.Site.ID] = w
		}
		w.Name = p.Site.Name
		w.Points = append(w.Points, PointSize{p.Taken, p.Added, p.Bytes})
		w.Added += p.Added
		w.Whole += p.Bytes
	}
	out := []DepotSize{}
	for _, w := range by {
		out = append(out, *w)
	}
	slices.SortFunc(out, func(a, b DepotSize) int {
		return cmp.Or(cmp.Compare(b.Added, a.Added), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// useOfDepot is what the depot has, against which quotas are held.
func useOfDepot(list []Point, of site.ID) (u site.DepotUse) {
	for _, p := range list {
		u.Points++
		u.Bytes += p.Added
		if p.Site.ID == of && p.Kind != depot.BeforeOp {
			u.OfSite++
		}
	}
	return u
}
