package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/op/keep"
	"alibi/internal/site"
)

func (a *app) pointTake() *cobra.Command {
	var dry, detach bool
	c := keep.Choices{Kind: depot.ByHand}
	cmd := &cobra.Command{
		Use:   "take SITE",
		Short: "Take a restore point of a site",
		Long: "Keep all files and tables of a live site or a copy as they are now, in the depot. The " +
			"site is only read. What did not change since its last restore point is not kept twice.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := d.Points.PlanKeep(ctx, s.ID, c)
			if err != nil {
				return err
			}
			return a.carryOut(ctx, d, p, "", dry, detach)
		}),
	}
	cmd.Flags().StringVar(&c.Name, "name", "", "what to call it; one with a name is kept until it is forgotten by hand")
	cmd.Flags().StringVar(&c.Why, "why", "", "what it was taken for")
	cmd.Flags().BoolVar(&c.Fresh, "fresh", false, "read every file, also where size and time are what they were")
	cmd.Flags().BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) points() *cobra.Command {
	c := &cobra.Command{
		Use:               "points [SITE]",
		Short:             "List restore points, prove them, and work with them",
		Args:              args(cobra.MaximumNArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			var of site.ID
			if len(given) > 0 {
				s, err := d.Fleet.Find(ctx, given[0])
				if err != nil {
					return err
				}
				of = s.ID
			}
			list, bad, err := d.Points.Points(ctx, of)
			if err != nil {
				return err
			}
			for _, err := range bad {
				fmt.Fprintln(a.err, "alibi:", err)
			}
			return a.print(list, func(w io.Writer) { printPoints(w, list, d.Now()) })
		}),
	}
	c.AddCommand(a.pointTake(), a.pointCopy(), a.pointRehearse(), a.pointVerify(), a.pointDiff(), a.pointFiles(),
		a.pointExtract(), a.pointDump(), a.pointSchedule(), a.pointForget(), a.pointPrune())
	return c
}

func printPoints(w io.Writer, list []desk.Point, now time.Time) {
	if len(list) == 0 {
		fmt.Fprintln(w, "no restore points; take one with: alibi points take SITE")
		return
	}
	table(w, func(row func(...string)) {
		row("RESTORE POINT", "OF", "TAKEN", "AGE", "SIZE", "ADDED", "PROVEN", "NAME")
		for _, p := range list {
			row(p.ID, p.Site.Name, p.Taken.Local().Format("Mon 2 Jan 15:04"), site.Span(now.Sub(p.Taken)),
				site.Size(p.Bytes), site.Size(p.Added), proven(p.Proof, now), strings.TrimSpace(p.Name+" "+p.Why))
		}
	})
}

func proven(p depot.Proof, now time.Time) string {
	switch {
	case p.At.IsZero():
		return "never"
	case !p.Holds:
		return "does not restore"
	}
	return site.Span(now.Sub(p.At)) + " ago"
}

// withPoint is with for commands on one restore point, which is the first argument.
func (a *app) withPoint(
	do func(ctx context.Context, d *desk.Desk, p desk.Point) error,
) func(*cobra.Command, []string) error {
	return a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
		p, err := d.Points.FindPoint(ctx, given[0])
		if err != nil {
			return err
		}
		return do(ctx, d, p)
	})
}

func (a *app) pointCopy() *cobra.Command {
	var f copyFlags
	c := &cobra.Command{
		Use:   "copy POINT",
		Short: "Make a copy of a site as it was at a restore point",
		Long: "Make a copy of a site as it was at a restore point, with the same choices as alibi copy. Neither the " +
			"point nor the site is touched.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.withPoint(func(ctx context.Context, d *desk.Desk, p desk.Point) error {
			made, err := d.Points.PlanFromPoint(ctx, p, func(c *clone.Choices) error {
				if f.purpose != "" {
					c.Purpose = f.purpose
				}
				return f.apply(c)
			})
			if err != nil {
				return err
			}
			return a.carryOut(ctx, d, made, "", f.dry, f.detach)
		}),
	}
	f.add(c)
	return c
}

func (a *app) pointRehearse() *cobra.Command {
	var dry, detach bool
	c := &cobra.Command{
		Use:   "rehearse POINT",
		Short: "Prove that a restore point restores, on a copy that is removed again",
		Long: "Make a copy of a restore point, compare it with the point row by row and file by file, note the " +
			"verdict, and remove the copy. Exit code 3 if it does not restore.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.withPoint(func(ctx context.Context, d *desk.Desk, p desk.Point) error {
			made, err := d.Points.PlanRehearse(ctx, p)
			if err != nil {
				return err
			}
			if err := a.carryOut(ctx, d, made, "", dry, detach); err != nil || dry || detach {
				return err
			}
			if p, err = d.Points.FindPoint(ctx, p.ID); err == nil && !p.Proof.Holds {
				err = fmt.Errorf("%w: %s", errNoProof, p.Proof.Text)
			}
			return err
		}),
	}
	c.Flags().BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return c
}

func (a *app) pointVerify() *cobra.Command {
	var mend bool
	c := &cobra.Command{
		Use:   "verify",
		Short: "Read and check every byte of the depot",
		Long: "Read every byte of the depot and check it, and that every restore point finds what it needs. Exit " +
			"code 3 if anything is damaged. With --mend damaged packs are set aside first, and what is whole of them " +
			"is kept elsewhere: the next restore point that has what is lost stores it anew, which makes earlier " +
			"ones whole again.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			if mend {
				out, err := d.Points.MendDepot(ctx)
				if err != nil {
					return err
				}
				if !a.json && len(out.Packs) > 0 {
					fmt.Fprintf(
						a.out,
						"%d damaged packs set aside; of their pieces %d were saved and %d are lost until a restore "+
							"point has them again\n",
						len(out.Packs),
						out.Saved,
						out.Lost,
					)
				}
			}
			var read int64
			faults, err := d.Points.VerifyDepot(ctx, func(n int64) { read += n })
			if err != nil {
				return err
			}
			if err := a.print(faults, func(w io.Writer) {
				for _, f := range faults {
					fmt.Fprintln(w, strings.TrimSpace(f.What+" "+strings.Join(f.Points, " ")))
				}
				if len(faults) == 0 {
					fmt.Fprintf(w, "%s read: every byte is what it was, and no restore point misses anything\n",
						site.Size(read))
				}
			}); err != nil || len(faults) == 0 {
				return err
			}
			return fmt.Errorf("%w: %d faults in the depot; alibi points verify --mend sets aside what is damaged",
				errNoProof, len(faults))
		}),
	}
	c.Flags().BoolVar(&mend, "mend", false, "set damaged packs aside first")
	return c
}

func (a *app) pointSchedule() *cobra.Command {
	return &cobra.Command{
		Use:   "schedule SITE [RULE]",
		Short: "Have restore points of a site taken by themselves",
		Long: "Have restore points of a site taken by the keeper, and those that the rule does not keep " +
			"removed: \"24 hourly, 7 daily, 5 weekly, 12 monthly\" takes one an hour, and keeps the newest of each " +
			"of so many hours, days, weeks and months. Points taken by hand stay. \"off\" ends it; without a rule it " +
			"tells which is set.",
		Args:              args(cobra.RangeArgs(1, 2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			if len(given) > 0 {
				var r site.KeepRule
				var err error
				if given[0] != "off" {
					if r, err = site.ParseKeepRule(given[0]); err != nil {
						return usageError{err}
					}
				}
				if s, err = d.Points.SetKeepRule(ctx, s.ID, r); err != nil {
					return err
				}
			}
			return a.print(s.Keep, func(w io.Writer) {
				if s.Keep == (site.KeepRule{}) {
					fmt.Fprintf(w, "%s: no schedule\n", s.Name)
					return
				}
				fmt.Fprintf(w, "%s: %s, while a keeper is at work\n", s.Name, s.Keep)
			})
		}),
	}
}

func (a *app) pointForget() *cobra.Command {
	var confirm string
	c := &cobra.Command{
		Use:   "forget POINT",
		Short: "Remove a restore point for good",
		Long:  "Remove a restore point, and from the depot what no other point needs. This can't be undone.",
		Args:  args(cobra.ExactArgs(1)),
		RunE: a.withPoint(func(ctx context.Context, d *desk.Desk, p desk.Point) error {
			if confirm != p.ID {
				return usageError{
					fmt.Errorf(
						"restore point %s of %s, taken %s, would be gone for good; nothing was done. To go on, say "+
							"--confirm %s",
						p.ID,
						p.Site.Name,
						p.Taken.Local().Format("Mon 2 Jan 15:04"),
						p.ID,
					),
				}
			}
			out, err := d.Points.ForgetPoints(ctx, []desk.Point{p})
			if err != nil {
				return err
			}
			return a.print(out, func(w io.Writer) {
				fmt.Fprintf(w, "%s forgotten, %s freed\n", p.ID, site.Size(out.Bytes))
			})
		}),
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the restore point's whole number")
	return c
}

func (a *app) pointPrune() *cobra.Command {
	var y site.KeepRule
	var yes bool
	c := &cobra.Command{
		Use:   "prune",
		Short: "Thin out restore points by a rule",
		Long: "Keep, of each site, the newest restore point of each of so many hours, days, weeks and months, every " +
			"one with a name, and the newest of all; remove the others, and what they alone needed. Without --go it " +
			"only shows which.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Points.Going(ctx, y)
			if err != nil {
				return err
			}
			if !yes {
				return a.print(list, func(w io.Writer) {
					if len(list) > 0 {
						printPoints(w, list, d.Now())
					}
					fmt.Fprintf(w, "%d would go; to remove them say --go\n", len(list))
				})
			}
			out, err := d.Points.ForgetPoints(ctx, list)
			if err != nil {
				return err
			}
			return a.print(out, func(w io.Writer) {
				fmt.Fprintf(w, "%d restore points removed, %s freed\n", len(list), site.Size(out.Bytes))
			})
		}),
	}
	c.Flags().IntVar(&y.Hourly, "hourly", 24, "hours of which one is kept")
	c.Flags().IntVar(&y.Daily, "daily", 7, "days of which one is kept")
	c.Flags().IntVar(&y.Weekly, "weekly", 5, "weeks of which one is kept")
	c.Flags().IntVar(&y.Monthly, "monthly", 12, "months of which one is kept")
	c.Flags().BoolVar(&yes, "go", false, "remove them")
	return c
}
