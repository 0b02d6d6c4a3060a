package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/site"
)

// Once is for how long a copy may reach what it is let reach once.
const Once = time.Hour

// Allow lets a copy's code reach something outside, HOST:PORT or HOST: for a while, or for the copy's life if that is
// 0. Its programs are started again with the next page.
func (d *Copies) Allow(ctx context.Context, id site.ID, target string, lasts time.Duration) (site.Site, error) {
	list, err := site.Targets(target)
	if err != nil {
		return site.Site{}, err
	}
	until := time.Time{}
	if lasts > 0 {
		until = d.now().Add(lasts)
	}
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.Role != site.Copy || s.State == site.Expired {
			return onlyCopies(*s, "let reach anything")
		}
		s.Passes = slices.DeleteFunc(s.Passes, func(p site.Pass) bool {
			over := !p.Until.IsZero() && d.now().After(p.Until)
			return over || slices.Contains(list, p.To)
		})
		for _, to := range list {
			s.Passes = append(s.Passes, site.Pass{To: to, Until: until})
		}
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "allow", "it may reach %s %s", strings.Join(list, " and "),
		site.Either(lasts > 0, "for "+site.Span(lasts), "for its life"))
}

// Refuse takes back what a copy's code was let reach.
func (d *Copies) Refuse(ctx context.Context, id site.ID, target string) (site.Site, error) {
	list, err := site.Targets(target)
	if err != nil {
		return site.Site{}, err
	}
	s, err := d.record.ChangeSite(ctx, id, func(s *site.Site) error {
		among := func(to string) bool { return slices.Contains(list, to) }
		was := len(s.Passes) + len(s.Allow)
		s.Passes = slices.DeleteFunc(s.Passes, func(p site.Pass) bool { return among(p.To) })
		s.Allow = slices.DeleteFunc(s.Allow, func(a string) bool {
			targets, err := site.Targets(a)
			return err == nil && slices.ContainsFunc(targets, among)
		})
		if len(s.Passes)+len(s.Allow) == was {
			return fmt.Errorf("%s may not reach %s anyway", s.Name, target)
		}
		return nil
	})
	if err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "allow", "it may not reach %s any more", strings.Join(list, " and "))
}
