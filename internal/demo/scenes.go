package demo

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/export"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// scene is a copy of the demo in some state worth seeing.
type scene struct {
	origin, name, purpose string
	age                   time.Duration
	lease                 time.Duration // from its making
	fails                 bool
	after                 func(ctx context.Context, w *World, d *desk.Desk, s site.Site) error
}

const day = 24 * time.Hour

func scenes() []scene {
	return []scene{
		{origin: "skerryline.example", name: "timetable-2028", purpose: "winter timetable layout", age: 30 * time.Hour,
			lease: 6 * day, after: winter},
		{origin: "tickets.skerryline.example", name: "winter-prices", purpose: "try the winter prices",
			age: 71 * time.Hour, lease: 3 * day},
		{origin: "tickets.skerryline.example", name: "harbour-redesign", purpose: "redesign of the shop", age: 9 * day,
			lease: 14 * day, after: func(ctx context.Context, w *World, d *desk.Desk, s site.Site) error {
				if err := w.edit(s.Database.Path, "UPDATE sk_posts SET post_title = post_title || ' (new look)' "+
					"WHERE post_type = 'page'",
					"UPDATE sk_options SET option_value = 'Tickets, redesigned' WHERE option_name = "+
						"'blogdescription'"); err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(s.Root, "wp-content/themes/kiosk/look.css"),
					[]byte("body{background:#f4efe4}\n"), 0o644); err != nil {
					return err
				}
				if err := w.edit(w.Dir("pier", "/srv/tickets/public/wp-content/database/.ht.sqlite"),
					"UPDATE sk_posts SET post_title = 'Fares (from December)' WHERE post_name = 'page-4'",
					"INSERT INTO sk_posts (post_title, post_name, post_type, post_status, post_date) VALUES ('Order "+
						"4900', 'order-4900', 'shop_order', 'publish', '2026-11-23 08:00:00')"); err != nil {
					return err
				}
				if _, err := d.Copies.Hold(ctx, s.ID, "redesign sign-off on 4 December"); err != nil {
					return err
				}
				return nil
			}},
		{origin: "crew.skerryline.example", name: "logbook-archive", purpose: "how old notes are found", age: 4 * day,
			lease: 4*day - 3*time.Hour, after: func(ctx context.Context, _ *World, d *desk.Desk, s site.Site) error {
				_, err := d.Copies.Expire(ctx, s.ID, s.Name)
				if now, rerr := d.Workings().Record.Site(ctx, s.ID); rerr == nil && now.State == site.Expired {
					return nil // the keeper may have been first: its lease is over
				}
				return err
			}},
		{origin: "islands.skerryline.example", name: "island-menus", purpose: "one menu for all islands",
			age: 20 * time.Hour, lease: 2 * day,
			after: func(ctx context.Context, _ *World, d *desk.Desk, s site.Site) error {
				_, err := d.Copies.Park(ctx, s.ID, "The islands choose a menu until Friday.",
					"harbour@skerryline.example", "")
				return err
			}},
		{origin: "crew.skerryline.example", name: "logbook-search", purpose: "a new search", age: time.Hour, lease: day,
			fails: true},
	}
}

// winter is what was done on the copy for the winter timetable, and on its live site meanwhile.
func winter(ctx context.Context, w *World, d *desk.Desk, s site.Site) error {
	if err := w.edit(s.Database.Path, "UPDATE sk_posts SET post_title = 'Winter timetable 2028' WHERE "+
		"post_name = 'page-1'",
		"INSERT INTO sk_posts (post_title, post_name, post_status, post_date, post_content) VALUES "+
			"('Fares in winter', 'fares-in-winter', 'draft', '2026-11-22 10:00:00', 'To be agreed.')",
		"DELETE FROM sk_posts WHERE post_name = 'note-009'",
		"UPDATE sk_options SET option_value = 'Boats in every weather' WHERE option_name = "+
			"'blogdescription'"); err != nil {
		return err
	}
	// the live site goes on meanwhile, at the same page and setting too
	if err := w.edit(w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite"),
		"UPDATE sk_posts SET post_content = post_content || '<p>The last boat waits for the school "+
			"bus.</p>' WHERE post_name = 'page-1'",
		"UPDATE sk_posts SET post_title = 'Getting to the harbour' WHERE post_name = 'page-4'",
		"UPDATE sk_options SET option_value = 'Ferries all year' WHERE option_name = 'blogdescription'",
		"INSERT INTO sk_comments (comment_post_ID, comment_author, comment_date, comment_content) "+
			"SELECT ID, 'A passenger', '2026-11-23 07:40:00', 'Does the early boat take bicycles?' FROM "+
			"sk_posts WHERE post_name = 'note-001'",
		"UPDATE sk_posts SET comment_count = comment_count + 1 WHERE post_name = 'note-001'"); err != nil {
		return err
	}
	return worked(ctx, w, d, s)
}

// edit changes a database of the demo world.
func (w *World) edit(path string, statements ...string) error {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

// Populate makes the copies of the demo by real runs, and then lets the time
// pass that the story needs. A keeper must be at work.
func (w *World) Populate(ctx context.Context, d *desk.Desk) error {
	if err := w.remember(ctx, d); err != nil {
		return fmt.Errorf("restore points: %w", err)
	}
	runs := map[string]plan.Run{}
	for _, fails := range []bool{false, true} {
		w.faulty.Store(fails)
		for _, sc := range scenes() {
			if sc.fails != fails {
				continue
			}
			r, err := w.begin(ctx, d, sc)
			if err != nil {
				return fmt.Errorf("scene %s: %w", sc.name, err)
			}
			runs[sc.name] = r
		}
		for _, sc := range scenes() {
			if sc.fails == fails {
				if err := w.finish(ctx, d, sc, runs[sc.name]); err != nil {
					return fmt.Errorf("scene %s: %w", sc.name, err)
				}
			}
		}
	}
	w.faulty.Store(false)
	for _, name := range []string{"timetable-2028", "harbour-redesign"} {
		s, err := d.Fleet.Find(ctx, name)
		if err != nil {
			return err
		}
		if _, err := d.Copies.Prove(ctx, s.ID, false, nil); err != nil {
			return err
		}
	}
	if err := pinned(ctx, d); err != nil {
		return fmt.Errorf("pin sheets: %w", err)
	}
	return triedOut(ctx, d, w.Now())
}

func (w *World) begin(ctx context.Context, d *desk.Desk, sc scene) (plan.Run, error) {
	origin, err := d.Fleet.Find(ctx, sc.origin)
	if err != nil {
		return plan.Run{}, err
	}
	c, err := d.Copies.CopyDefaults(ctx, origin, sc.purpose)
	if err != nil {
		return plan.Run{}, err
	}
	c.Name, c.Lease = sc.name, sc.lease
	p, err := d.Copies.PlanCopy(ctx, origin.ID, c)
	if err != nil {
		return plan.Run{}, err
	}
	return d.Runs.StartTyped(ctx, p, p.Confirm)
}

func (w *World) finish(ctx context.Context, d *desk.Desk, sc scene, r plan.Run) error {
	r, err := d.Runs.Await(ctx, r.ID, nil)
	if err != nil {
		return err
	}
	if want := map[bool]plan.RunState{true: plan.Stopped, false: plan.Done}[sc.fails]; r.State != want {
		return fmt.Errorf("its run ended %s: %s", r.State, r.Error)
	}
	s, err := d.Workings().Record.ChangeSite(ctx, r.Plan.Target.ID, func(s *site.Site) error {
		if !sc.fails {
			s.MadeAt, s.CheckedAt = s.MadeAt.Add(-sc.age), s.CheckedAt.Add(-sc.age)
			s.Lease.Ends = s.MadeAt.Add(sc.lease)
		}
		return nil
	})
	if err != nil || sc.after == nil {
		return err
	}
	return sc.after(ctx, w, d, s)
}

// remember takes restore points in the past, and proves two of them.
func (w *World) remember(ctx context.Context, d *desk.Desk) error {
	defer w.back.Store(0)
	origin, err := d.Fleet.Find(ctx, "skerryline.example")
	if err != nil {
		return err
	}
	for i, x := range []struct {
		age    time.Duration
		name   string
		proven bool
	}{{age: 12*day + 5*time.Hour}, {age: 6*day + time.Hour, name: "before the new fares", proven: true},
		{age: 2*day + 3*time.Hour, proven: true}, {age: 3 * time.Hour}} {
		w.back.Store(int64(x.age))
		if err := w.edit(w.Dir("pier", origin.Database.Path),
			fmt.Sprintf("UPDATE sk_posts SET post_content = post_content || '<p>Seen to, %d.</p>' WHERE post_name = "+
				"'note-00%d'", i, i+1)); err != nil {
			return err
		}
		p, err := d.Points.PlanKeep(ctx, origin.ID, keep.Choices{Kind: depot.ByHand, Name: x.name})
		if err != nil {
			return err
		}
		if err := w.carried(ctx, d, p); err != nil {
			return err
		}
		if !x.proven {
			continue
		}
		points, _, err := d.Points.Points(ctx, origin.ID)
		if err != nil {
			return err
		}
		if p, err = d.Points.PlanRehearse(ctx, points[0]); err != nil {
			return err
		}
		if err := w.carried(ctx, d, p); err != nil {
			return err
		}
	}
	return w.archived(ctx, d)
}

// archived keeps two further sites, and writes one into an archive.
func (w *World) archived(ctx context.Context, d *desk.Desk) error {
	for name, age := range map[string]time.Duration{"tickets.skerryline.example": 4 * day,
		"islands.skerryline.example": 26 * time.Hour} {
		w.back.Store(int64(age))
		s, err := d.Fleet.Find(ctx, name)
		if err != nil {
			return err
		}
		p, err := d.Points.PlanKeep(ctx, s.ID, keep.Choices{Kind: depot.ByHand})
		if err == nil {
			err = w.carried(ctx, d, p)
		}
		if err == nil && name[0] == 't' {
			p, err = d.Points.PlanArchive(ctx, s, nil, export.Choices{
				To: filepath.Join(w.Home, "archives", export.Name(s, w.Now(), false)),
			})
			if err == nil {
				err = w.carried(ctx, d, p)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// carried carries a plan out.
func (w *World) carried(ctx context.Context, d *desk.Desk, p plan.Plan) error {
	r, err := d.Runs.StartTyped(ctx, p, p.Confirm)
	if err == nil {
		r, err = d.Runs.Await(ctx, r.ID, nil)
	}
	if err == nil && r.State != plan.Done {
		err = fmt.Errorf("its run ended %s: %s", r.State, r.Error)
	}
	return err
}
