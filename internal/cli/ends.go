package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/draw"
	"alibi/internal/site"
)

func (a *app) deleted() *cobra.Command {
	return &cobra.Command{
		Use:   "deleted",
		Short: "List deleted and expired copies that can be brought back",
		Long: "List copies that were deleted (alibi expire) or whose lease ended, and that can still be brought " +
			"back: with their size, since when, and until when. alibi bring-back COPY does so; alibi remove COPY " +
			"purges one at once.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Fleet.Deleted(ctx)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "nothing is deleted")
					return
				}
				table(w, func(row func(...string)) {
					row("COPY", "OF", "SIZE", "SINCE", "PURGED")
					for _, e := range list {
						row(e.Site.Name, e.Of, site.Size(e.Site.Bytes()),
							site.Span(d.Now().Sub(e.Site.Lease.Noticed))+" ago", e.At.Local().Format("Mon 2 Jan 15:04"))
					}
				})
			})
		}),
	}
}

func (a *app) ends() *cobra.Command {
	return &cobra.Command{
		Use:   "ends",
		Short: "List what ends by itself, the next first",
		Long: "List the ends of leases, and when copies that are off the air are removed for good, with what would " +
			"be lost by each.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Fleet.Ends(ctx)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "nothing ends by itself")
					return
				}
				table(w, func(row func(...string)) {
					row("WHEN", "COPY", "OF", "WHAT", "NOWHERE ELSE")
					for _, e := range list {
						what := "goes off the air"
						if e.Purge {
							what = "is removed for good"
						}
						lost := ""
						if n := e.Site.Apart.Copy; n > 0 {
							lost = fmt.Sprintf("%d changes", n)
						}
						row(e.At.Local().Format("Mon 2 Jan 15:04"), e.Site.Name, e.Of, what, lost)
					}
				})
			})
		}),
	}
}

func (a *app) costs() *cobra.Command {
	return &cobra.Command{
		Use:   "costs",
		Short: "What copies have cost, by the hour",
		Long: "What each copy has cost by its host's hourly rate, also those that are gone, and what ending them " +
			"saved: the rest of the lifetimes that they had been given. The rates are set in the configuration, " +
			"under [cost.hosts].",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			c, err := d.Fleet.Costs(ctx)
			if err != nil {
				return err
			}
			return a.print(c, func(w io.Writer) {
				table(w, func(row func(...string)) {
					row("COPY", "HOST", "HOURS", "RATE", "COST", "SAVED")
					for _, x := range c.Copies {
						row(x.Name, x.Host, fmt.Sprintf("%.1f", x.Hours), fmt.Sprintf("%.4g", x.Rate),
							fmt.Sprintf("%.2f", x.Cost), fmt.Sprintf("%.2f", x.Saved))
					}
				})
				fmt.Fprintf(w, "%s in all; ending copies saved %.2f\n",
					strings.TrimSpace(fmt.Sprintf("%.2f %s", c.Cost, c.Currency)), c.Saved)
				if len(d.Config().Cost.Hosts) == 0 {
					fmt.Fprintln(w, "no rates are set: see [cost.hosts] in the configuration")
				}
			})
		}),
	}
}

func (a *app) bulk() *cobra.Command {
	var confirm, by, reason string
	var dry bool
	words := make([]string, len(desk.Acts))
	for i, x := range desk.Acts {
		words[i] = string(x)
	}
	c := &cobra.Command{
		Use:   "bulk ACT SITE...",
		Short: "Do one thing to several sites, with one plan",
		Long: "Do one thing to several sites: " + strings.Join(words, ", ") +
			". What it is done to, and what keeps it from being done to others, is shown first; where something " +
			"would be lost it has to be confirmed, once for all. One that fails does not keep the others from " +
			"being done.",
		Args:      args(cobra.MinimumNArgs(2)),
		ValidArgs: words,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			var ids []site.ID
			for _, name := range given[1:] {
				s, err := d.Fleet.Find(ctx, name)
				if err != nil {
					return err
				}
				ids = append(ids, s.ID)
			}
			b, err := d.Fleet.PlanBulk(ctx, desk.Act(given[0]), ids)
			if err != nil {
				return err
			}
			if by != "" {
				if b.By, err = site.ParseSpan(by); err != nil {
					return usageError{err}
				}
			}
			b.Reason = cmp.Or(reason, b.Reason)
			if dry {
				return a.print(b, func(w io.Writer) { printBulk(w, b) })
			}
			if !a.json {
				printBulk(a.out, b)
			}
			if b.Confirm != "" && confirm != b.Confirm {
				return usageError{fmt.Errorf("nothing was done; to go on, say --confirm %q", b.Confirm)}
			}
			done, err := d.Fleet.RunBulk(ctx, b, confirm)
			var runs []string
			for _, x := range done {
				if x.Run != "" {
					runs = append(runs, x.Run)
				} else if x.Err == "" && !a.json {
					fmt.Fprintf(a.out, "%s: done\n", x.Site)
				}
			}
			if len(runs) == 0 {
				return err
			}
			return errors.Join(err, a.kept(ctx, d, func() (err error) {
				for _, r := range runs {
					err = errors.Join(err, a.follow(ctx, d, r))
				}
				return err
			}))
		}),
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the act and how many sites it is done to, such as \"remove 3\"")
	c.Flags().StringVar(&by, "by", "", "with extend: by how much, such as 3d")
	c.Flags().StringVar(&reason, "reason", "", "with hold: why")
	c.Flags().BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	return c
}

func printBulk(w io.Writer, b desk.Bulk) {
	table(w, func(row func(...string)) {
		for _, it := range b.Items {
			if it.Cannot != "" {
				row("not "+string(b.Act), it.Site.Name, it.Cannot)
				continue
			}
			row(string(b.Act), it.Site.Name, site.Size(it.Site.Bytes()), it.Warning)
		}
	})
	fmt.Fprintf(w, "%s in all\n", site.Size(b.Bytes))
}

func (a *app) draw() *cobra.Command {
	c := &cobra.Command{
		Use:   "draw",
		Short: "Draw the depot's size, the calendar of leases or a copy's drift, as SVG or PDF",
		Args:  args(cobra.NoArgs),
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	drawing := func(use, short string, make func(ctx context.Context, d *desk.Desk) (draw.Drawing,
		error)) *cobra.Command {
		return &cobra.Command{
			Use:   use + " FILE",
			Short: short,
			Long:  short + fileSays,
			Args:  args(cobra.ExactArgs(1)),
			RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
				g, err := make(ctx, d)
				if err != nil {
					return err
				}
				return a.drawn(g, given[0])
			}),
		}
	}
	c.AddCommand(
		drawing(
			"depot",
			"Draw the size of the depot over time, by site",
			func(ctx context.Context, d *desk.Desk) (draw.Drawing, error) {
				list, err := d.Fleet.DepotSizes(ctx)
				if err != nil {
					return nil, err
				}
				return draw.Depot(series(list), d.Now()), nil
			},
		),
		drawing("leases", "Draw the calendar of leases", func(ctx context.Context, d *desk.Desk) (draw.Drawing, error) {
			list, err := d.Fleet.Sites(ctx)
			if err != nil {
				return nil, err
			}
			return draw.Leases(bars(list, d.Now()), d.Now()), nil
		}),
		drawing(
			"versions",
			"Draw what the sites run, side by side",
			func(ctx context.Context, d *desk.Desk) (draw.Drawing, error) {
				g, err := d.Pins.PinGrid(ctx)
				if err != nil {
					return nil, err
				}
				return versionGrid(g, d.Now()), nil
			},
		),
		drawing(
			"trial",
			"Draw the verdicts of the trial that was made last",
			func(ctx context.Context, d *desk.Desk) (draw.Drawing, error) {
				list, err := d.Components.Trials(ctx, "")
				if err != nil {
					return nil, err
				}
				if len(list) == 0 {
					return nil, errors.New("there is no trial yet; make one: alibi trial COPY --php all")
				}
				r, m, err := d.Components.Trial(ctx, list[0].ID)
				return trialGrid(r, m), err
			},
		),
		a.drawDrift(),
		a.drawMove(),
	)
	return c
}

func series(list []desk.DepotSize) (out []draw.Series) {
	for _, w := range list {
		s := draw.Series{Name: w.Name}
		sum := int64(0)
		for _, p := range w.Points {
			sum += p.Added
			s.At, s.Value = append(s.At, p.At), append(s.Value, float64(sum))
		}
		out = append(out, s)
	}
	return out
}

// bars are the leases of copies, what ends first before others and what is held last.
func bars(list []site.Site, now time.Time) (out []draw.Bar) {
	for _, s := range list {
		l := s.Lease
		switch {
		case s.Role != site.Copy || s.State == site.Making:
			continue
		case s.State == site.Failed:
			out = append(out, draw.Bar{Name: s.Name, From: s.MadeAt, To: now, Off: true})
		case l.Held || l.Ends.IsZero():
			out = append(out, draw.Bar{Name: s.Name, From: s.MadeAt, Held: true})
		case s.State == site.Expired:
			out = append(out, draw.Bar{Name: s.Name, From: s.MadeAt, To: l.Ends, Grace: l.Noticed.Add(l.Grace)})
		default:
			out = append(out, draw.Bar{Name: s.Name, From: s.MadeAt, To: l.Ends,
				Grace: l.Ends.Add(max(l.Grace, time.Hour))})
		}
	}
	slices.SortStableFunc(out, func(a, b draw.Bar) int {
		if a.Held != b.Held {
			if a.Held {
				return 1
			}
			return -1
		}
		return a.To.Compare(b.To)
	})
	return out
}
