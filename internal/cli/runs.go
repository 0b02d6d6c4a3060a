package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/keeper"
	"alibi/internal/op/remove"
	"alibi/internal/plan"
	"alibi/internal/printable"
	"alibi/internal/site"
)

func (a *app) runs() *cobra.Command {
	var limit, skip int
	var of, state string
	c := &cobra.Command{Use: "runs [RUN]", Short: "List runs, or show one", Args: args(cobra.MaximumNArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if len(given) == 1 {
				r, err := d.Runs.Run(ctx, given[0])
				if err != nil {
					return err
				}
				return a.print(r, func(w io.Writer) { printRun(w, r, d) })
			}
			list, err := d.Runs.Latest(ctx, 0)
			if err != nil {
				return err
			}
			list = slices.DeleteFunc(list, func(r plan.Run) bool {
				about := r.Plan.Target.Name == of || r.Plan.Origin.Name == of
				return of != "" && !about || state != "" && string(r.State) != state
			})
			list = list[min(skip, len(list)):]
			if limit > 0 {
				list = list[:min(limit, len(list))]
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, r := range list {
						row(r.ID, runState(r, d.Home()), string(r.Plan.Kind), r.Plan.Target.Name,
							r.Made.Format(time.DateTime), site.Seconds(r.Took(d.Now())), r.Result+r.Error)
					}
				})
				more(w, len(list), limit, skip)
				printIdle(w, list, d.Home())
			})
		})}
	c.Flags().IntVar(&limit, "limit", 50, "how many to show; 0: all")
	c.Flags().IntVar(&skip, "skip", 0, "how many of the latest to pass by")
	c.Flags().StringVar(&of, "of", "", "only runs about this site, by its name")
	c.Flags().StringVar(&state, "state", "", "only runs that are: waiting, running, paused, done, failed, cancelled")
	c.AddCommand(
		&cobra.Command{Use: "cancel RUN", Short: "Stop a run and take back what it did", Args: args(cobra.ExactArgs(1)),
			RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
				r, err := d.Runs.Run(ctx, given[0])
				if err != nil {
					return err
				}
				if err := d.Runs.Cancel(ctx, r.ID); err != nil {
					return err
				}
				return a.kept(ctx, d, func() error { return a.follow(ctx, d, r.ID) })
			})},
		a.resume(),
	)
	return c
}

func (a *app) resume() *cobra.Command {
	var anyway bool
	c := &cobra.Command{
		Use: "resume RUN", Short: "Take up a run that failed, or one that is paused", Args: args(cobra.ExactArgs(1)),
		Long: "Take up a run that failed, from the last recorded point. One that is paused goes on: what it asked is " +
			"agreed to.\n\nWith --anyway a copy that only its evidence stopped is let stand as it is, to be\n" +
			"worked on; a copy that could reach its origin's database or break a quiet rule is not.",
		Example: "  alibi runs resume 3f2a91c07b\n  alibi runs resume 3f2a91c07b --anyway",
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			take := d.Runs.Resume
			if anyway {
				take = d.Runs.Accept
			}
			r, err := take(ctx, given[0])
			if err != nil {
				return err
			}
			return a.kept(ctx, d, func() error { return a.follow(ctx, d, r.ID) })
		}),
	}
	c.Flags().BoolVar(&anyway, "anyway", false, "let the copy stand although its evidence does not hold")
	return c
}

// follow tells of a run until it is over.
func (a *app) follow(ctx context.Context, d *desk.Desk, id string) error {
	shown := map[string]bool{}
	live := !a.json && term.IsTerminal(int(os.Stderr.Fd()))
	r, err := d.Runs.Await(ctx, id, func(r plan.Run) {
		if a.json {
			return
		}
		for _, p := range r.Steps {
			if !p.Ended.IsZero() && !shown[p.Name] {
				shown[p.Name] = true
				if live {
					fmt.Fprint(os.Stderr, "\r\x1b[K")
				}
				fmt.Fprintln(a.out, stepLine(p, d.Now()))
				if p.Name == "open" && toProve(r) {
					fmt.Fprintf(a.out, "answers at %s/, %s\n", r.Plan.Target.Address(), r.Plan.Target.Yet())
				}
			} else if live && p.Ended.IsZero() && !p.Began.IsZero() {
				fmt.Fprint(os.Stderr, "\r\x1b[K", printable.Line(stepLine(p, d.Now())))
			}
		}
	})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.print(r, nil); err != nil {
			return err
		}
	}
	switch r.State {
	case plan.Stopped:
		return noProof(r)
	case plan.Cancelled:
		if r.Error != "" {
			return noProof(r)
		}
		if !a.json {
			fmt.Fprintln(a.out, "cancelled; everything was taken back")
		}
	case plan.Paused:
		if !a.json {
			fmt.Fprintf(a.out, "paused: %s; go on with: alibi runs resume %s\n", r.Gate, r.ID)
		}
	default:
		if !a.json {
			fmt.Fprintf(a.out, "done in %s: %s\n", site.Seconds(r.Took(d.Now())), r.Result)
			if r.Plan.Kind.Brings() {
				fmt.Fprintf(a.out, "answers at %s/ while a keeper is at work (alibi keeper)\n", r.Plan.Target.Address())
				if r.Plan.Target.Stack == "wordpress" {
					fmt.Fprintf(a.out, "accounts are %s\n", r.Plan.Target.AccountsText())
				}
			}
		}
		if r.Plan.Kind.Brings() {
			if s, err := d.Fleet.Site(ctx, r.Plan.Target.ID); err == nil && s.Run == "" && s.Proof.Broken > 0 {
				return fmt.Errorf("%w: %s; fix it, and gather it anew: alibi evidence %s", errNoProof, r.Result, s.Name)
			}
		}
	}
	return nil
}

// toProve tells whether a run has its evidence to gather still.
func toProve(r plan.Run) bool {
	return slices.ContainsFunc(r.Steps, func(p plan.Progress) bool { return p.Name == "evidence" && p.Ended.IsZero() })
}

func amount(n int64, u plan.Unit) string {
	if u == plan.Bytes {
		return site.Size(n)
	}
	return strconv.FormatInt(n, 10) + " " + string(u)
}

func stepLine(p plan.Progress, now time.Time) string {
	s := fmt.Sprintf("  %-22s %7s", p.Title, site.Seconds(p.Took(now)))
	if p.Unit != "" {
		s += fmt.Sprintf("  %s", amount(p.Done, p.Unit))
		if r := p.Rate(now); r >= 1 {
			s += fmt.Sprintf(", %s/s", amount(int64(r), p.Unit))
		}
	}
	if p.Note != "" {
		s += "  " + p.Note
	}
	return s
}

func printRun(w io.Writer, r plan.Run, d *desk.Desk) {
	fmt.Fprintf(w, "run %s: %s of %s, %s, by %s\n", r.ID, r.Plan.Kind, r.Plan.Target.Name, runState(r, d.Home()), r.By)
	for _, p := range r.Steps {
		fmt.Fprintln(w, stepLine(p, d.Now()))
	}
	if r.Gate != nil {
		fmt.Fprintf(w, "paused: %s; go on with: alibi runs resume %s\n", r.Gate, r.ID)
	}
	for _, t := range []string{r.Result, r.Error, r.Remedy} {
		if t != "" {
			fmt.Fprintln(w, t)
		}
	}
	printIdle(w, []plan.Run{r}, d.Home())
}

// runState is where a run is in its life: one that was under way when its keeper ended is not running.
func runState(r plan.Run, home string) string {
	if r.State == plan.Running && !keeper.Taken(home) {
		return "left off"
	}
	return string(r.State)
}

// whoCould says what has the queue worked on.
const whoCould = "alibi keeper goes on with what waits or was left off, and so does any command that changes something"

// whoWorks tells who works on what is queued.
func whoWorks(home string) string {
	switch {
	case !keeper.Taken(home):
		return "it waits, since nobody works; " + whoCould
	case keeper.Holder(home) == "":
		return "the keeper works on it"
	}
	return "the keeper works on it, " + keeper.Holder(home)
}

// printIdle says that nobody works on runs that are under way or wait, if that is so.
func printIdle(w io.Writer, list []plan.Run, home string) {
	open := slices.ContainsFunc(list, func(r plan.Run) bool {
		return r.State == plan.Running || r.State == plan.Waiting
	})
	if open && !keeper.Taken(home) {
		fmt.Fprintln(w, "nobody works now: "+whoCould)
	}
}

func (a *app) history() *cobra.Command {
	var look inventory.Look
	var since string
	c := &cobra.Command{
		Use: "history [SITE]", Short: "Who did what, newest first", Args: args(cobra.MaximumNArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		Long: "Who did what, newest first, also to sites that are gone. Without --limit the latest " +
			"200 are shown.",
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if since != "" {
				at, err := time.ParseInLocation(time.DateOnly, since, time.Local)
				if err != nil {
					return usageError{fmt.Errorf("%q is no day: write it as %s", since, time.DateOnly)}
				}
				look.Since = at
			}
			if len(given) == 1 {
				var err error
				if look.Sites, err = d.Fleet.Ever(ctx, given[0]); err != nil {
					return err
				}
			}
			list, err := d.Fleet.SearchHistory(ctx, look)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, e := range list {
						row(e.At.Format(time.DateTime), e.Who, e.Name, e.Kind, e.Text)
					}
				})
				more(w, len(list), look.Limit, look.Skip)
			})
		})}
	f := c.Flags()
	f.IntVar(&look.Limit, "limit", 200, "how many to show; 0: all")
	f.IntVar(&look.Skip, "skip", 0, "how many of the latest to pass by")
	f.StringVar(&look.Who, "who", "", "only what this person or the keeper did")
	f.StringVar(&look.Kind, "kind", "", "only what is of this kind, such as copy or restore")
	f.StringVar(&look.Text, "text", "", "only where this text occurs")
	f.StringVar(&since, "since", "", "only from this day on, such as "+time.DateOnly)
	return c
}

// more says how to see what was not shown.
func more(w io.Writer, shown, limit, skip int) {
	if limit > 0 && shown == limit {
		fmt.Fprintf(w, "\nthere may be more: --skip %d shows the next ones, --limit 0 all\n", skip+shown)
	}
}

func (a *app) leftovers() *cobra.Command {
	var clear bool
	c := &cobra.Command{
		Use:   "leftovers",
		Short: "List what Alibi made and nothing needs any more, and remove it",
		Args:  args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Fleet.Leftovers(ctx)
			if err != nil {
				return err
			}
			if clear {
				if err := d.Fleet.ClearLeftovers(ctx, list); err != nil {
					return err
				}
			}
			if list == nil {
				list = []remove.Leftover{}
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, l := range list {
						row(l.Host, l.Path, site.Size(l.Bytes), l.Why)
					}
				})
				switch {
				case len(list) == 0:
					fmt.Fprintln(w, "nothing is left over")
				case clear:
					fmt.Fprintln(w, "removed")
				default:
					fmt.Fprintln(w, "remove them with: alibi leftovers --remove")
				}
			})
		}),
	}
	c.Flags().BoolVar(&clear, "remove", false, "remove them")
	return c
}

func (a *app) keeper() *cobra.Command {
	return &cobra.Command{
		Use:   "keeper",
		Short: "Work on runs, end leases and serve copies until stopped",
		Long: "Work on runs, end leases on time and serve the copies, until it is stopped. One keeper has a home at " +
			"a time. Run it as a service, and runs go on when the screen is closed.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			k, err := keeper.Take(d)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "keeping %s; copies answer at http://NAME.localhost:%s/\n", d.Home(), d.Port())
			return k.Run(ctx)
		}),
	}
}

// full opens the full-screen interface.
func (a *app) full(ctx context.Context) error {
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		return usageError{fmt.Errorf("the full-screen interface needs a terminal; for commands see: alibi --help")}
	}
	d, err := a.desk(ctx)
	if err != nil {
		return err
	}
	defer d.Close()
	return a.screens(ctx, d, false)
}
