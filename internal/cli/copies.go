package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// copyFlags are the choices of a copy as flags.
type copyFlags struct {
	name, purpose, lease, hold, larger string
	host                               string
	skip, loud, allow, only, empty     []string
	spare, plainTitle, dry, detach     bool
	beside, keep, scrub, asIs          bool
	pins, media                        string
	confirm                            string
	runtime                            site.Runtime
}

func (f *copyFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.name, "name", "", "what to call it; part of its address")
	c.Flags().StringVar(&f.purpose, "for", "", "what is to be tried on it")
	c.Flags().StringVar(&f.host, "host", "", "on which host to make it (default: this machine)")
	c.Flags().StringVar(&f.lease, "lease", "", "how long it lives: 6h, 3d, 2w (default from the configuration)")
	c.Flags().StringVar(&f.hold, "hold", "", "give it no end, for this reason")
	c.Flags().StringSliceVar(&f.only, "only", nil, "kinds of content to bring, with what they refer to: "+
		site.KindList(site.Kinds))
	c.Flags().StringSliceVar(&f.empty, "empty-table", nil, "tables to bring without their rows")
	c.Flags().BoolVar(&f.beside, "beside", false, "put its tables into the origin's own database, under another "+
		"prefix, where none can be made for it")
	c.Flags().BoolVar(&f.keep, "keep", false, "take a restore point of the finished copy, for alibi reset --to made")
	c.Flags().StringVar(&f.confirm, "confirm", "",
		"with --beside: the origin's name, since something is written into its database")
	c.Flags().StringSliceVar(&f.skip, "skip", nil, "folders to leave out")
	c.Flags().StringVar(&f.larger, "larger", "", "leave out files larger than this: 10M, 1G")
	c.Flags().BoolVar(&f.spare, "spare", false, "bring caches, logs and archives too")
	c.Flags().StringSliceVar(&f.loud, "loud", nil,
		"quiet rules to switch off: mail, tasks, statistics, robots, payments, webhooks")
	c.Flags().StringSliceVar(&f.allow, "allow", nil, "HOST or HOST:PORT outside that its code may reach")
	c.Flags().BoolVar(
		&f.scrub,
		"scrub",
		false,
		"make up names, mail addresses, phones, places and passwords of people (default where the copy leaves "+
			"this machine)",
	)
	c.Flags().BoolVar(&f.asIs, "as-it-is", false, "bring people's data as they are, wherever the copy is made")
	c.Flags().StringVar(&f.media, "media", "", "first: it answers when its media are there; behind: they come while it "+
		"answers (default for 256 MiB and more from another host)")
	c.Flags().StringVar(&f.pins, "pins", "", "bring the finished copy to this pin sheet; none: to no sheet (default: "+
		"the sheet that was chosen as that)")
	c.Flags().StringVar(&f.runtime.PHP, "php", "", "PHP version to run it on, such as 8.2 (default: the origin's)")
	c.Flags().StringVar(&f.runtime.Memory, "memory", "", "memory of one request: 128M, 512M")
	c.Flags().IntVar(&f.runtime.RunTime, "run-time", 0, "longest time of one request, in seconds")
	c.Flags().StringVar(&f.runtime.Upload, "upload", "", "largest upload: 32M")
	c.Flags().StringVar(&f.runtime.Bounds, "bounds", "",
		"what its programs may use, where not the usual: 'memory=2G processes=64 disk=10G'")
	c.Flags().BoolVar(&f.runtime.Show, "show-errors", false, "show PHP's errors on its pages")
	c.Flags().BoolVar(&f.plainTitle, "plain-title", false, "do not say in the title that it is a copy")
	c.Flags().BoolVar(&f.dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&f.detach, "detach", false, "do not wait for the end")
}

// apply changes choices by the flags.
func (f *copyFlags) apply(c *clone.Choices) error {
	if f.name != "" {
		c.Name = f.name
	}
	if f.host != "" {
		c.Host = f.host
	}
	c.Skip, c.Spare, c.Title, c.Allow, c.Empty, c.Beside, c.Keep = f.skip, f.spare, !f.plainTitle, f.allow, f.empty,
		f.beside, f.keep
	c.Runtime = f.runtime.Or(c.Runtime)
	switch {
	case f.scrub && f.asIs:
		return usageError{fmt.Errorf("say --scrub or --as-it-is, not both")}
	case f.scrub:
		c.Scrub = "on"
	case f.asIs:
		c.Scrub = "off"
	}
	if c.Media = f.media; c.Media != "" && c.Media != clone.MediaFirst && c.Media != clone.MediaBehind {
		return usageError{fmt.Errorf("%q is no way of bringing media: first, behind", f.media)}
	}
	c.Pins = f.pins
	var err error
	for _, to := range f.allow {
		if _, err := site.Targets(to); err != nil {
			return usageError{err}
		}
	}
	if c.Only, err = site.ParseKinds(f.only); err != nil {
		return usageError{err}
	}
	if _, err := (site.Bounds{}).With(f.runtime.Bounds); err != nil {
		return usageError{err}
	}
	for _, s := range []string{f.runtime.Memory, f.runtime.Upload} {
		if s != "" {
			if _, err := site.ParseSize(s); err != nil || strings.Trim(s, "0123456789KMG") != "" {
				return usageError{fmt.Errorf("%q is no size that PHP knows: write 256M or 1G", s)}
			}
		}
	}
	if c.Lease, err = span(f.lease, c.Lease); err != nil {
		return err
	}
	if f.hold != "" {
		c.Lease, c.Hold = 0, f.hold
	}
	if f.larger != "" {
		if c.Larger, err = site.ParseSize(f.larger); err != nil {
			return usageError{err}
		}
	}
	for _, l := range f.loud {
		if site.Rule(l).Explain() == "" {
			return usageError{fmt.Errorf("%q is no quiet rule: mail, tasks, statistics, robots, payments, webhooks", l)}
		}
		var quiet []site.Rule
		for _, r := range c.Quiet {
			if string(r) != l {
				quiet = append(quiet, r)
			}
		}
		c.Quiet = quiet
	}
	return nil
}

func (a *app) copy() *cobra.Command {
	var f copyFlags
	c := &cobra.Command{
		Use:   "copy SITE",
		Short: "Make a copy of a site",
		Long: "Make a copy of a live site, or of a copy. The usual choices are made for you; --plan " +
			"shows what will be done. Nothing is written to the origin.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			choices, err := d.Copies.CopyDefaults(ctx, s, f.purpose)
			if err != nil {
				return err
			}
			f.pins = meantPins(d, f.pins)
			if err := f.apply(&choices); err != nil {
				return err
			}
			p, err := d.Copies.PlanCopy(ctx, s.ID, choices)
			if err != nil {
				return err
			}
			if err := a.carryOut(ctx, d, p, f.confirm, f.dry, f.detach); err != nil || f.pins == "" || f.dry ||
				f.detach {
				return err
			}
			return a.pinning(ctx, d, p.Target.ID)
		}),
	}
	f.add(c)
	return c
}

// pinning follows the run that brings a new copy to its pin sheet.
func (a *app) pinning(ctx context.Context, d *desk.Desk, id site.ID) error {
	run, err := d.Pins.Pinning(ctx, id)
	if err != nil {
		return err
	}
	if run != "" {
		if err := a.kept(ctx, d, func() error { return a.follow(ctx, d, run) }); err != nil {
			return err
		}
	}
	s, err := d.Fleet.Site(ctx, id)
	if err == nil && s.Pins == "" {
		err = fmt.Errorf("%s stands, and is not brought to its pin sheet; see why: alibi history %s", s.Name, s.Name)
	}
	return err
}

func (a *app) refresh() *cobra.Command {
	var dry, detach, fresh bool
	var confirm, at string
	c := &cobra.Command{
		Use:   "refresh COPY",
		Short: "Bring a copy in line with its origin again",
		Long: "Bring a copy in line with its origin as it is now, or, with --at, as it was at a restore " +
			"point. Only files that changed are brought again, and on MariaDB and MySQL only rows that did; what was " +
			"changed on the copy is lost. Cancelled, the copy is given back as it was.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := planRefresh(ctx, d, s, at, fresh)
			if err != nil {
				return err
			}
			return a.carryOut(ctx, d, p, confirm, dry, detach)
		}),
	}
	c.Flags().BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	c.Flags().StringVar(&confirm, "confirm", "", "the copy's name, if changes would be lost")
	c.Flags().StringVar(&at, "at", "", "a restore point of its origin: bring the copy to what that holds")
	c.Flags().BoolVar(&fresh, "fresh", false, "read every file and row, also where sizes and times are what they were")
	c.MarkFlagsMutuallyExclusive("at", "fresh")
	return c
}

func planRefresh(ctx context.Context, d *desk.Desk, s site.Site, at string, fresh bool) (plan.Plan, error) {
	switch {
	case fresh:
		return d.Copies.PlanFreshRefresh(ctx, s.ID)
	case at == "":
		return d.Copies.PlanRefresh(ctx, s.ID)
	}
	p, err := d.Points.FindPoint(ctx, at)
	if err != nil {
		return plan.Plan{}, err
	}
	return d.Points.PlanBack(ctx, s.ID, p)
}

// carryOut shows a plan, or puts it to work and tells of it. typed is the name
// that was given with --confirm; where one is needed and there is a person at the
// terminal, it is asked for.
func (a *app) carryOut(ctx context.Context, d *desk.Desk, p plan.Plan, typed string, dry, detach bool) error {
	if p.Idle() {
		return a.print(p, func(w io.Writer) { fmt.Fprintln(w, p.Findings[0].Text+": "+p.Findings[0].Remedy) })
	}
	if !dry && p.Confirm != "" && typed != p.Confirm && !p.Blocked() {
		printPlan(a.err, p)
		if err := a.confirm(p.Confirm, typed, why(p)); err != nil {
			return err
		}
		typed = p.Confirm
	}
	if dry {
		if err := a.print(p, func(w io.Writer) { printPlan(w, p) }); err != nil || !p.Blocked() {
			return err
		}
		return desk.Obstacle(p)
	}
	if !a.json {
		printPlan(a.out, p)
		fmt.Fprintln(a.out)
	}
	r, err := d.Runs.StartTyped(ctx, p, typed)
	if err != nil {
		return err
	}
	if detach {
		return a.print(r, func(w io.Writer) {
			fmt.Fprintf(w, "run %s: %s; look at it with: alibi runs %s\n", r.ID, whoWorks(d.Home()), r.ID)
		})
	}
	return a.kept(ctx, d, func() error { return a.follow(ctx, d, r.ID) })
}

// why says why a plan asks for a name.
func why(p plan.Plan) string {
	switch {
	case p.Kind == plan.Copy:
		return "tables are written into its database"
	case p.Loses > 0:
		return site.Plural(int64(p.Loses), "change", "changes") +
			" made here will be lost, and can be found nowhere else"
	case p.Kind == plan.Switch:
		return "visitors of the live site would be held, and then be led to " + p.Words
	case p.Kind == plan.Certify:
		return "the site or its zone would show something to an authority for a moment"
	case p.Kind == plan.Clear:
		return p.Words + ": what is there would be gone"
	case p.Kind == plan.Change:
		return "it would be changed: " + p.Words
	case p.Kind == plan.Sync:
		return p.Words + " would be written into it"
	case p.Words != "":
		return "it would be brought to " + p.Words
	}
	return "it would be written over"
}

func printPlan(w io.Writer, p plan.Plan) {
	fmt.Fprintf(w, "%s of %s %s", p.Kind.Title(), strings.ToUpper(string(p.Origin.Role)), p.Origin.Name)
	switch {
	case p.Kind == plan.Change || p.Kind == plan.Trial || p.Kind == plan.Blank:
		fmt.Fprintf(w, ": %s", p.Words)
	case p.Kind == plan.Restore || p.Kind == plan.Reset || p.Kind == plan.Archive || p.Kind == plan.Pass ||
		p.Kind == plan.Switch:
		fmt.Fprintf(w, " to %s", p.Words)
	case p.Kind.Moves():
		fmt.Fprintf(w, ": %s", p.Words)
	case p.Kind == plan.Sync:
		fmt.Fprintf(w, ": %s -> %s %s", p.Words, strings.ToUpper(string(p.Target.Role)), p.Target.Name)
	case p.Kind == plan.Import:
		fmt.Fprintf(w, " from %s", p.Words)
	case p.Kind != plan.Keep:
		fmt.Fprintf(w, " -> %s", p.Target.Address())
	}
	fmt.Fprintln(w)
	table(w, func(row func(...string)) {
		if p.Kind == plan.Keep || p.Kind == plan.Archive || p.Kind == plan.Import {
			row("keeps", strings.TrimSuffix(p.RowsText()+", "+site.Size(p.Data), ", 0 B"))
			row("", fmt.Sprintf("%s files, %s", site.Number(p.Files), site.Size(p.Bytes)))
		} else if p.Kind == plan.Restore || p.Kind == plan.Reset || p.Kind == plan.Change ||
			p.Kind == plan.Sync {
			printParts(row, p)
			printTakes(row, p)
		} else if p.Kind != plan.Remove {
			does := map[plan.Kind]string{plan.Clear: "removes", plan.Compare: "compares"}[p.Kind]
			row(cmp.Or(does, "brings"), p.RowsText()+", "+site.Size(p.Data))
			row("", fmt.Sprintf("%s files, %s", site.Number(p.Files), site.Size(p.Bytes)))
			for _, l := range p.LeftOut {
				row("leaves out", l.What, l.Why, l.Amount())
			}
			printTakes(row, p)
			printRewrites(row, p)
			if p.FreeThen > 0 {
				row("disk after", site.Size(p.FreeThen)+" free")
			}
			if p.Target.Lease.Held {
				row("lives", "held: "+p.Target.Lease.Reason)
			} else if !p.Kind.Moves() {
				row("lives until", p.Target.Lease.Ends.Format("Mon 2 Jan 15:04"))
			}
		}
		for i, t := range p.Writes {
			row(site.Either(i == 0, "writes", ""), t)
		}
	})
	printFindings(w, p.Findings)
}

func (a *app) open() *cobra.Command {
	var inside bool
	var account string
	c := &cobra.Command{
		Use:   "open COPY",
		Short: "Tell where a copy answers, or sign in to it",
		Long: "Print a copy's address. With --inside, an address that signs in once, within a minute, " +
			"to what only an account sees.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if s.Role == site.Copy && s.State != site.Ready {
				return fmt.Errorf("%s is %s: it does not answer now", s.Name, s.State)
			}
			addr := s.Address().String() + "/"
			if inside || account != "" {
				var err error
				if addr, err = d.Copies.Latchkey(ctx, s.ID, account); err != nil {
					return err
				}
			}
			return a.print(map[string]string{"address": addr}, func(w io.Writer) { fmt.Fprintln(w, addr) })
		}),
	}
	c.Flags().BoolVar(&inside, "inside", false, "sign in as the first administrator")
	c.Flags().StringVar(&account, "as", "", "sign in as this account, or as the first one with this role")
	return c
}

// leased is a command that changes a copy's lease and prints the copy.
func (a *app) leased(
	use, short string,
	n cobra.PositionalArgs,
	do func(ctx context.Context, d *desk.Desk, s site.Site, args []string) (site.Site, error),
) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: args(n), ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			s, err := do(ctx, d, s, given)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { fmt.Fprintf(w, "%s: %s\n", s.Name, s.LeaseText(d.Now())) })
		})}
}

func (a *app) extend() *cobra.Command {
	var confirm string
	c := a.leased(
		"extend COPY [TIME]",
		"Give a copy more time (3d if none is named)",
		cobra.RangeArgs(1, 2),
		func(ctx context.Context, d *desk.Desk, s site.Site, given []string) (site.Site, error) {
			by := 3 * 24 * time.Hour
			if len(given) > 0 {
				var err error
				if by, err = span(given[0], by); err != nil {
					return s, err
				}
			}
			if s.Lease.Held {
				if err := a.confirm(s.Name, confirm,
					"it is held: "+s.Lease.Reason+"; an end would end that"); err != nil {
					return s, err
				}
				confirm = s.Name
			}
			return d.Copies.Extend(ctx, s.ID, by, confirm)
		},
	)
	c.Flags().StringVar(&confirm, "confirm", "", "the copy's name, if it is held: it gets an end then")
	return c
}

func (a *app) hold() *cobra.Command {
	return a.leased(
		"hold COPY REASON",
		"Keep a copy without an end, for a reason",
		cobra.MinimumNArgs(2),
		func(ctx context.Context, d *desk.Desk, s site.Site, given []string) (site.Site, error) {
			return d.Copies.Hold(ctx, s.ID, strings.Join(given, " "))
		},
	)
}

func (a *app) expire() *cobra.Command {
	var confirm string
	c := a.leased(
		"expire COPY",
		"Take a copy off the air now; it can be brought back for a while",
		cobra.ExactArgs(1),
		func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) (site.Site, error) {
			if why := d.Fleet.Precious(ctx, s); why != "" {
				if err := a.confirm(s.Name, confirm, why); err != nil {
					return s, err
				}
				confirm = s.Name
			}
			return d.Copies.Expire(ctx, s.ID, confirm)
		},
	)
	c.Flags().StringVar(&confirm, "confirm", "", "the copy's name, if it is held or has changes that are nowhere else")
	c.Aliases = []string{"delete"}
	return c
}

func (a *app) bringBack() *cobra.Command {
	var lease string
	c := a.leased(
		"bring-back COPY",
		"Put an expired copy on the air again",
		cobra.ExactArgs(1),
		func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) (site.Site, error) {
			by, err := span(lease, 0)
			if err != nil {
				return s, err
			}
			return d.Copies.BringBack(ctx, s.ID, by)
		},
	)
	c.Flags().StringVar(&lease, "lease", "", "for how long (default from the configuration)")
	return c
}

func (a *app) remove() *cobra.Command {
	var confirm string
	c := &cobra.Command{
		Use:               "remove COPY",
		Aliases:           []string{"purge"},
		Short:             "Remove a copy for good, with everything made for it",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := d.Copies.PlanRemove(ctx, s.ID)
			if err != nil {
				return err
			}
			if err := a.confirm(s.Name, confirm, "it can't be brought back"); err != nil {
				return err
			}
			return a.carryOut(ctx, d, p, s.Name, false, false)
		}),
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the copy's name")
	return c
}

// noProof gives a run's failure the exit code for evidence.
func noProof(r plan.Run) error {
	if r.State == plan.Stopped && strings.Contains(r.Error, "is not what it should be") {
		return fmt.Errorf("%w: %s; %s", errNoProof, r.Error, r.Remedy)
	}
	return errors.New(r.Error + "; " + r.Remedy)
}
