package desk

import (
	"context"
	"slices"
	"strings"
	"time"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Family is a live site with its copies.
type Family struct {
	Live   site.Site   `json:"live"`
	Copies []site.Site `json:"copies"`
}

// Board is what the home screen shows.
type Board struct {
	At       time.Time        `json:"at"`
	Machine  string           `json:"machine"`
	Client   string           `json:"client,omitempty"` // if all sites are one client's
	Families []Family         `json:"families"`
	Live     int              `json:"live"`
	Copies   int              `json:"copies"`
	EndSoon  int              `json:"end_soon"` // within a day
	Runs     []plan.Run       `json:"runs"`     // that wait or are under way
	Use      site.Use         `json:"use"`
	Quota    site.Quota       `json:"quota"`
	Kept     map[site.ID]Kept `json:"kept,omitempty"`
	// Stale is true where the configuration was changed since this process read it.
	Stale bool `json:"stale,omitempty"`
}

// Kept is what the depot has of a site.
type Kept struct {
	Points int       `json:"points"`
	Newest time.Time `json:"newest"`
	Proven time.Time `json:"proven"` // when the newest point that restores was rehearsed; zero: never
}

// Board reads the record for the home screen: live sites by name, each with its
// copies and the copies of these, by when they end.
func (d *Fleet) Board(ctx context.Context) (Board, error) {
	b := Board{At: d.now(), Machine: d.config.Machine, Quota: d.config.Quota, Stale: d.stale()}
	all, err := d.record.Listed(ctx)
	if err != nil {
		return b, err
	}
	if b.Runs, err = d.record.Unfinished(ctx); err != nil {
		return b, err
	}
	b.Kept = d.keptOf(ctx)
	byID := make(map[site.ID]site.Site, len(all))
	for _, s := range all {
		byID[s.ID] = s
	}
	root := func(s site.Site) site.ID {
		for s.Role == site.Copy {
			o, ok := byID[s.Origin]
			if !ok {
				return ""
			}
			s = o
		}
		return s.ID
	}
	at := map[site.ID]int{}
	for _, s := range all {
		if s.Role == site.Live {
			at[s.ID] = len(b.Families)
			b.Families = append(b.Families, Family{Live: s})
			b.Live++
		}
		if b.Live == 1 {
			b.Client = s.Client
		} else if s.Role == site.Live && s.Client != b.Client {
			b.Client = ""
		}
	}
	for _, s := range all {
		if s.Role != site.Copy {
			continue
		}
		b.Copies++
		b.Use.Copies++
		b.Use.Bytes += s.Bytes()
		if p := s.Lease.Phase(b.At); (p == site.Running || p == site.Ending) && s.Lease.Left(b.At) < 24*time.Hour &&
			s.State != site.Failed {
			b.EndSoon++
		}
		i, ok := at[root(s)]
		if !ok { // its origin is gone
			i = len(b.Families)
			at[""] = i
			b.Families = append(b.Families, Family{})
		}
		b.Families[i].Copies = append(b.Families[i].Copies, s)
	}
	for _, f := range b.Families {
		slices.SortStableFunc(f.Copies, byEnd(b.At))
	}
	return b, nil
}

// byEnd puts first what ends first; what is held comes last.
func byEnd(now time.Time) func(a, b site.Site) int {
	key := func(s site.Site) time.Time {
		if s.Lease.Held || s.Lease.Ends.IsZero() {
			return now.Add(1000 * 24 * time.Hour)
		}
		return s.Lease.Ends
	}
	return func(a, b site.Site) int { return key(a).Compare(key(b)) }
}

// Due is all copies as one family, by what ends next.
func (b Board) Due() []Family {
	var all []site.Site
	for _, f := range b.Families {
		all = append(all, f.Copies...)
	}
	slices.SortStableFunc(all, byEnd(b.At))
	return []Family{{Copies: all}}
}

// Fits tells whether a text occurs in what people know a site by.
func Fits(s site.Site, text string) bool {
	text = strings.ToLower(text)
	for _, t := range []string{s.Name, s.Address().String(), s.Host, s.Purpose, s.Owner, s.Client, s.Title,
		string(s.State), s.StateText()} {
		if strings.Contains(strings.ToLower(t), text) {
			return true
		}
	}
	return false
}

// Matching keeps the sites that a text occurs in: in name, address, host,
// purpose, owner or client. A live site that fits brings all its copies.
func (b Board) Matching(text string) Board {
	fits := func(s site.Site) bool { return Fits(s, text) }
	var out []Family
	for _, f := range b.Families {
		var copies []site.Site
		whole := f.Live.ID != "" && fits(f.Live)
		for _, c := range f.Copies {
			if whole || fits(c) {
				copies = append(copies, c)
			}
		}
		if len(copies) > 0 || whole {
			out = append(out, Family{Live: f.Live, Copies: copies})
		}
	}
	b.Families = out
	return b
}

// Happening is an event with the name of its site.
type Happening struct {
	inventory.Event
	Name string `json:"name"`
}

// History lists the latest events, newest first, of one site or of all ("").
func (d *Fleet) History(ctx context.Context, id site.ID, limit int) ([]Happening, error) {
	return d.SearchHistory(ctx, inventory.LookAt(id, limit))
}

// Ever finds all sites that have or had a name, also those that are gone.
func (d *Fleet) Ever(ctx context.Context, name string) ([]site.ID, error) {
	s, err := d.Find(ctx, name)
	if err == nil && s.Name != name {
		return []site.ID{s.ID}, nil
	}
	all, aerr := d.record.AllSites(ctx)
	if aerr != nil {
		return nil, aerr
	}
	var out []site.ID
	for _, s := range all {
		if s.Name == name || string(s.ID) == name {
			out = append(out, s.ID)
		}
	}
	if len(out) == 0 {
		return nil, err
	}
	return out, nil
}

// SearchHistory gives what happened, the latest first, with the names of sites.
func (d *Fleet) SearchHistory(ctx context.Context, look inventory.Look) ([]Happening, error) {
	events, err := d.record.Search(ctx, look)
	if err != nil {
		return nil, err
	}
	names := map[site.ID]string{}
	out := make([]Happening, 0, len(events))
	for _, e := range events {
		name, known := names[e.Site]
		if !known && e.Site != "" {
			if s, err := d.record.Site(ctx, e.Site); err == nil {
				name = s.Name
			}
			names[e.Site] = name
		}
		out = append(out, Happening{e, name})
	}
	return out, nil
}

// Precious says why a copy should not be ended without its name being typed:
// it is held, or has changes that are nowhere else. "" if nothing speaks
// against it.
func (d *Fleet) Precious(ctx context.Context, s site.Site) string {
	if s.Lease.Held {
		return "it is held: " + s.Lease.Reason
	}
	n := s.Apart.Copy
	if a, err := d.copies.Apart(ctx, s.ID); err == nil {
		n = a.Copy
	}
	if n > 0 {
		return changes(n) + " made here are nowhere else"
	}
	return ""
}

func changes(n int) string {
	if n == 1 {
		return "1 change"
	}
	return site.Number(n) + " changes"
}
