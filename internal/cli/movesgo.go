package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// sitePlace stands for the first part of a site's name, where several are to move at once.
const sitePlace = "{site}"

// beginMoves begins moves of several sites to one host, in order. What can't begin is said, and the others do.
func (a *app) beginMoves(ctx context.Context, d *desk.Desk, names []string, to string, n desk.NewMove) error {
	switch {
	case slices.ContainsFunc(names[1:], func(s string) bool { return slices.Contains(moveActs, s) }):
		return usageError{fmt.Errorf("a move that begins has no gate yet: alibi move %s --to %s", names[0], to)}
	case !strings.Contains(n.Root, sitePlace):
		return usageError{fmt.Errorf("several sites can't come to one folder: name it with the site, as --root /var/www/%s",
			sitePlace)}
	case n.Name != "" || n.Database.Name != "" || n.Address != "":
		return usageError{errors.New("--name, --database and --address are of one site: begin with it alone")}
	}
	var begun []plan.Move
	var failed error
	for _, name := range names {
		s, err := d.Fleet.Find(ctx, name)
		if err == nil {
			one := n
			label, _, _ := strings.Cut(s.Name, ".")
			one.Site, one.Host, one.Root = s.ID, to, strings.ReplaceAll(n.Root, sitePlace, site.Slug(label))
			var m plan.Move
			if m, err = d.Moves.Begin(ctx, one); err == nil {
				begun = append(begun, m)
			}
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", name, err))
		}
	}
	if err := a.printMoves(d, begun); err != nil {
		return err
	}
	return failed
}

// printMoves lists moves: from where to where, and which gate is next.
func (a *app) printMoves(d *desk.Desk, list []plan.Move) error {
	return a.print(list, func(w io.Writer) {
		table(w, func(row func(...string)) {
			for _, m := range list {
				next := "over: alibi move " + m.Name + " forget"
				if l, more := m.Next(d.Now()); more {
					next = l.Title + site.Either(l.Why == "", "", ": "+l.Why)
				}
				row(m.Name, m.From.Host+" -> "+m.To.Host, "stands on "+m.Here().Host, next)
			}
		})
		if len(list) == 0 {
			fmt.Fprintln(w, "no site is on its way; begin with: alibi move SITE --to HOST")
		}
	})
}

// alone are the gates that change nothing that visitors see: several moves can be brought through them at once.
var alone = []string{plan.LegSurvey, plan.LegCarry, plan.LegCheck}

func (a *app) movesGo() *cobra.Command {
	var again bool
	c := &cobra.Command{
		Use:   "go [NAME...]",
		Short: "Bring several moves up to the gates that ask for a name",
		Long: "Bring moves, all or those that are named, one after the other through survey, carry and check: these write " +
			"nothing that visitors see, and ask for no name. A move that does not get through is left where it is, and the " +
			"others go on; the exit code is 1 then. With --again those that were checked are carried and checked once more, " +
			"as just before they are switched over.",
		ValidArgsFunction: a.moveNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			list, err := a.theseMoves(ctx, d, given)
			if err != nil {
				return err
			}
			var failed error
			for i, m := range list {
				if !a.json {
					fmt.Fprintf(a.err, "%s (%d of %d)\n", m.Name, i+1, len(list))
				}
				if list[i], err = a.upToCheck(ctx, d, m, again); err != nil {
					failed = errors.Join(failed, fmt.Errorf("%s: %w", m.Name, err))
				}
				if ctx.Err() != nil {
					return ctx.Err()
				}
			}
			if err := a.printMoves(d, list); err != nil {
				return err
			}
			return failed
		}),
	}
	c.Flags().BoolVar(&again, "again", false, "carry and check those too that were checked")
	return c
}

// theseMoves are those that are named, or all of which the site stands where it stood.
func (a *app) theseMoves(ctx context.Context, d *desk.Desk, names []string) (list []plan.Move, err error) {
	if len(names) == 0 {
		list, err = d.Moves.All(ctx)
		return slices.DeleteFunc(list, func(m plan.Move) bool { return m.Moved || !m.Cleared.IsZero() }), err
	}
	for _, n := range names {
		m, err := d.Moves.Find(ctx, n)
		if err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	return list, nil
}

// upToCheck brings a move through the gates that change nothing that visitors see.
func (a *app) upToCheck(ctx context.Context, d *desk.Desk, m plan.Move, again bool) (plan.Move, error) {
	for _, leg := range alone {
		next, more := m.Next(d.Now())
		at := slices.Index(alone, next.Name)
		switch {
		case m.Moved:
			return m, fmt.Errorf("it stands on %s already", m.To.Host)
		case again && leg != plan.LegSurvey && (!more || at < 0 || at > slices.Index(alone, leg)):
		case !more || leg != next.Name:
			continue
		}
		var err error
		if leg == plan.LegSurvey {
			m, err = d.Moves.Survey(ctx, m.Name)
		} else {
			err = a.quietly(ctx, d, m, leg)
		}
		if err != nil {
			return m, err
		}
		if m, err = d.Moves.Find(ctx, m.Name); err != nil {
			return m, err
		}
		if l, more := m.Next(d.Now()); more && l.Name == leg {
			return m, fmt.Errorf("%s: %s", leg, l.Why)
		}
	}
	return m, nil
}

// quietly goes through a gate, and says only how that ended.
func (a *app) quietly(ctx context.Context, d *desk.Desk, m plan.Move, leg string) error {
	p, err := d.Moves.Plan(ctx, m, leg)
	if err != nil {
		return err
	}
	if p.Blocked() {
		return desk.Obstacle(p)
	}
	r, err := d.Runs.Start(ctx, p)
	if err != nil {
		return err
	}
	return a.kept(ctx, d, func() error {
		r, err := d.Runs.Await(ctx, r.ID, nil)
		if err == nil && r.State != plan.Done {
			err = fmt.Errorf("%s %s: %s", leg, r.State, r.Error)
		}
		if err == nil && !a.json {
			fmt.Fprintf(a.err, "  %s: %s\n", leg, r.Result)
		}
		return err
	})
}
