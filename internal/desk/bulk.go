package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"alibi/internal/depot"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// Act is something that is done to several sites with one plan.
type Act string

// The acts.
const (
	ActKeep    Act = "keep"       // take a restore point
	ActRefresh Act = "refresh"    // bring in line with its origin
	ActExtend  Act = "extend"     // give more time
	ActHold    Act = "hold"       // take the end away
	ActExpire  Act = "expire"     // take off the air, to be brought back for a while
	ActBack    Act = "bring-back" // put on the air again
	ActRemove  Act = "remove"     // remove for good
	ActPark    Act = "park"       // put a notice before visitors
	ActLift    Act = "lift"       // take it away
)

// Acts are all acts.
var Acts = []Act{ActKeep, ActRefresh, ActExtend, ActHold, ActExpire, ActBack, ActRemove, ActPark, ActLift}

// Bulk is what doing something to several sites will do.
type Bulk struct {
	Act     Act           `json:"act"`
	Items   []BulkItem    `json:"items"`
	Bytes   int64         `json:"bytes"`
	Confirm string        `json:"confirm,omitempty"` // what has to be typed: see PlanBulk
	By      time.Duration `json:"by,omitempty"`      // of extending
	Reason  string        `json:"reason,omitempty"`  // of holding
}

// BulkItem is one of the sites.
type BulkItem struct {
	Site    site.Site `json:"site"`
	Warning string    `json:"warning,omitempty"`
	Cannot  string    `json:"cannot,omitempty"` // why nothing is done to it
}

// can says why an act can't be done to a site, "" if it can.
func (a Act) can(s site.Site) string {
	copyOnly := s.Role != site.Copy
	switch {
	case s.Run != "":
		return "a run is at work on it"
	case a == ActBack && s.State != site.Expired:
		return "it is not expired"
	case a == ActBack || a == ActRemove:
		if copyOnly {
			return "it is live"
		}
	case s.State == site.Expired && a != ActKeep:
		return "it is expired"
	case s.State != site.Ready && s.State != site.Parked && s.State != site.Expired:
		return "it is " + string(s.State)
	case copyOnly && slices.Contains([]Act{ActRefresh, ActExtend, ActHold, ActExpire}, a):
		return "it is live"
	case a == ActLift && s.Front == nil && s.State != site.Parked:
		return "visitors see it as it is"
	case a == ActRefresh && s.State != site.Ready:
		return "it is " + string(s.State)
	}
	return ""
}

// PlanBulk says what doing something to several sites will do. The names of those
// that are live, are held or have changes that are nowhere else have to be typed,
// with commas; where copies are removed and none of them is such a one, the act
// and how many.
func (d *Fleet) PlanBulk(ctx context.Context, act Act, ids []site.ID) (Bulk, error) {
	b := Bulk{Act: act, By: d.lease, Reason: "held together with others"}
	if !slices.Contains(Acts, act) {
		return b, fmt.Errorf("%q is nothing that can be done to several sites: %v", act, Acts)
	}
	n := 0
	var must []string
	for _, id := range ids {
		s, err := d.record.Site(ctx, id)
		if err != nil {
			return b, err
		}
		it := BulkItem{Site: s, Cannot: act.can(s)}
		if it.Cannot == "" {
			n++
			b.Bytes += s.Bytes()
			if s.Role == site.Live && (act == ActPark || act == ActLift) {
				it.Warning = "it is live"
			}
			if act == ActExpire || act == ActRemove || act == ActRefresh {
				it.Warning = d.Precious(ctx, s)
			}
			if act == ActExtend && s.Lease.Held {
				it.Warning = "it is held: " + s.Lease.Reason
			}
			if it.Warning != "" {
				must = append(must, s.Name)
			}
		}
		b.Items = append(b.Items, it)
	}
	if n == 0 {
		return b, fmt.Errorf("nothing can be done: %s", b.why())
	}
	switch {
	case len(must) > 0:
		b.Confirm = strings.Join(must, ", ")
	case act == ActRemove:
		b.Confirm = fmt.Sprintf("%s %d", act, n)
	}
	return b, nil
}

func (b Bulk) why() string {
	var out []string
	for _, it := range b.Items {
		if it.Cannot != "" {
			out = append(out, it.Site.Name+": "+it.Cannot)
		}
	}
	return strings.Join(out, "; ")
}

// Done is what came of one site.
type Done struct {
	Site string `json:"site"`
	Run  string `json:"run,omitempty"` // that was put to work
	Err  string `json:"error,omitempty"`
}

// RunBulk does it, site after site. One that fails does not keep the others from
// being done.
func (d *Fleet) RunBulk(ctx context.Context, b Bulk, typed string) ([]Done, error) {
	if b.Confirm != "" && typed != b.Confirm {
		return nil, fmt.Errorf("%w: something would be lost, or a live site be changed; type %q to go on", ErrNotTyped,
			b.Confirm)
	}
	names := map[string]string{} // that were typed, and stand for each site's consent
	for _, n := range strings.Split(typed, ",") {
		n = strings.TrimSpace(n)
		names[n] = n
	}
	var out []Done
	var errs []error
	for _, it := range b.Items {
		if it.Cannot != "" {
			continue
		}
		run, err := d.act(ctx, b, it.Site, names[it.Site.Name])
		x := Done{Site: it.Site.Name, Run: run}
		if err != nil {
			x.Err = err.Error()
			errs = append(errs, fmt.Errorf("%s: %w", it.Site.Name, err))
		}
		out = append(out, x)
	}
	return out, errors.Join(errs...)
}

// act does one thing to one site, and names the run that was put to work for it.
// typed is the site's name if it was typed.
func (d *core) act(ctx context.Context, b Bulk, s site.Site, typed string) (run string, err error) {
	queued := func(p plan.Plan, err error) (string, error) {
		if err != nil {
			return "", err
		}
		r, err := d.runs.StartTyped(ctx, p, typed)
		return r.ID, err
	}
	switch b.Act {
	case ActKeep:
		return queued(d.points.PlanKeep(ctx, s.ID, keep.Choices{Kind: depot.ByHand}))
	case ActRefresh:
		return queued(d.copies.PlanRefresh(ctx, s.ID))
	case ActRemove:
		return queued(d.copies.PlanRemove(ctx, s.ID))
	case ActExtend:
		_, err = d.copies.Extend(ctx, s.ID, b.By, typed)
	case ActHold:
		_, err = d.copies.Hold(ctx, s.ID, b.Reason)
	case ActExpire:
		_, err = d.copies.Expire(ctx, s.ID, typed)
	case ActBack:
		_, err = d.copies.BringBack(ctx, s.ID, 0)
	case ActPark:
		_, err = d.copies.Park(ctx, s.ID, "", "", typed)
	case ActLift:
		_, err = d.copies.Lift(ctx, s.ID, typed)
	}
	return "", err
}
