package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// checkFlags add what a cell has to do to pass.
func checkFlags(c *cobra.Command, k *trial.Check) {
	f := c.Flags()
	f.StringSliceVar(&k.Pages, "page", nil, "further addresses below the site's own that have to answer")
	f.StringArrayVar(&k.Texts, "text", nil, "a text that has to stand on one of the pages")
	f.StringArrayVar(&k.Without, "without", nil, "a text that must stand on none of the pages")
	f.StringVar(&k.Command, "command", "", "a shell command that has to end with 0; ALIBI_URL and ALIBI_ROOT say "+
		"where the variant is")
	f.BoolVar(&k.Only, "only", false, "just what is asked for here: no pages of every kind, and errors that harm no "+
		"answer don't count")
}

func (a *app) trialCommands() []*cobra.Command {
	return []*cobra.Command{a.trial(), a.cause(), a.trials()}
}

func (a *app) trial() *cobra.Command {
	var w desk.TrialWish
	var sets []string
	var dry, detach bool
	c := &cobra.Command{
		Use:   "trial COPY",
		Short: "Try a copy under several cores, PHP versions and components",
		Long: "Make a grid of variants of a copy: every core that is named, under every PHP, with every set of " +
			"components. Each variant is a disposable copy that shares its files with the others: it is started, its " +
			"data are brought in line, a page of every kind is asked for (visitors' and the administration's), its " +
			"error log is read, and it gets a verdict with its reason; then it is removed. The copy itself is " +
			"not touched. " +
			"A set is written as NAME=CHANGE+CHANGE: a component to bring (tide-table@3.0.0), -NAME to put a plugin " +
			"off, +NAME is not needed.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		Example: "  alibi trial winter --core own,newest --php all\n  alibi trial winter --php all --set " +
			"'now=' --set 'new tides=tide-table@3.0.0'",
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			for _, text := range sets {
				set, err := parseSet(text)
				if err != nil {
					return usageError{err}
				}
				w.Sets = append(w.Sets, set)
			}
			if len(w.Cores)+len(w.Runtimes)+len(w.Sets) == 0 {
				w.Runtimes = []string{"all"}
			}
			p, err := d.Components.PlanTrial(ctx, s.ID, w)
			if err != nil {
				return err
			}
			return a.tryOut(ctx, d, p, dry, detach)
		}),
	}
	f := c.Flags()
	f.StringSliceVar(&w.Cores, "core", nil, "versions of the core: own, newest, or by number")
	f.StringSliceVar(&w.Runtimes, "php", nil, "series of PHP, or all (default all, if nothing else is named)")
	f.StringArrayVar(&sets, "set", nil, "a set of components: NAME=CHANGE+CHANGE")
	f.IntVar(&w.AtOnce, "at-once", 0, "variants at once (default runtime.at_once of the configuration, 2)")
	f.BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	f.BoolVar(&detach, "detach", false, "do not wait for the end")
	checkFlags(c, &w.Check)
	return c
}

// parseSet reads NAME=CHANGE+CHANGE.
func parseSet(text string) (out desk.SetWish, err error) {
	name, list, ok := strings.Cut(text, "=")
	if !ok {
		name, list = text, text
	}
	out.Name = strings.TrimSpace(name)
	for part := range strings.SplitSeq(list, "+") {
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		if slug, off := strings.CutPrefix(part, "-"); off {
			if !site.GoodSlug(slug) {
				return out, fmt.Errorf("%q names no plugin to deactivate: write -NAME", part)
			}
			out.Off = append(out.Off, slug)
			continue
		}
		src, err := site.ParseSource("", part)
		if err != nil {
			return out, err
		}
		if src.Kind == "" && src.From == "" {
			src.Kind = site.Plugin
		}
		out.Put = append(out.Put, src)
	}
	return out, nil
}

func (a *app) cause() *cobra.Command {
	w := desk.TrialWish{Cause: true}
	var dry, detach bool
	c := &cobra.Command{
		Use:   "cause COPY",
		Short: "Find the plugin, theme or version that breaks a copy",
		Long: "Find what makes a check fail on a copy, by trying halves of its plugins on disposable " +
			"copies: one plugin, several that conflict only together, the theme, or the PHP version. Versions of the " +
			"culprit that the catalogue has, and the PHP versions of this machine, are tried too. Without flags the " +
			"check is that a page of every kind answers and no error ends a request. The copy itself is not touched.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		Example:           "  alibi cause winter\n  alibi cause winter --only --page timetable/ --text 'High water'",
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := d.Components.PlanTrial(ctx, s.ID, w)
			if err != nil {
				return err
			}
			return a.tryOut(ctx, d, p, dry, detach)
		}),
	}
	c.Flags().IntVar(&w.AtOnce, "at-once", 0, "copies at once (default runtime.at_once of the configuration, 2)")
	c.Flags().BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	checkFlags(c, &w.Check)
	return c
}

// tryOut carries a trial out and prints its verdicts.
func (a *app) tryOut(ctx context.Context, d *desk.Desk, p plan.Plan, dry, detach bool) error {
	if dry || detach || p.Blocked() {
		return a.carryOut(ctx, d, p, "", dry, detach)
	}
	r, err := d.Runs.Start(ctx, p)
	if err != nil {
		return err
	}
	return a.kept(ctx, d, func() error {
		if err := a.follow(ctx, d, r.ID); err != nil {
			return err
		}
		return a.printTrial(ctx, d, r.ID)
	})
}

// warned is the beginning of what a try's log warns of; all of it is in the JSON and on the screen.
func warned(c trial.Cell) string {
	if len(c.Said) == 0 {
		return ""
	}
	return ansi.Truncate(site.Plural(int64(c.Warnings), "warning", "warnings")+": "+c.Said[0], 100, "…")
}

func (a *app) printTrial(ctx context.Context, d *desk.Desk, id string) error {
	_, m, err := d.Components.Trial(ctx, id)
	if err != nil {
		return err
	}
	return a.print(m, func(w io.Writer) {
		table(w, func(row func(...string)) {
			row("CORE", "PHP", "WITH", "VERDICT", "TOOK", "TAKES", "WHY")
			cells := m.Cells
			if m.AsItIs != nil {
				as := *m.AsItIs
				as.Set = "as it is"
				cells = append([]trial.Cell{as}, cells...)
			}
			for _, c := range append(cells, m.Tries...) {
				row(c.Core, c.PHP, c.Set, string(c.State), site.Seconds(c.Took), site.Size(c.Bytes),
					cmp.Or(c.Reason, warned(c)))
			}
		})
		if m.Full > 0 {
			fmt.Fprintf(w, "a whole copy takes %s\n", site.Size(m.Full))
		}
		if m.Found != nil {
			fmt.Fprintln(w, m.Found.Text)
		}
	})
}

func (a *app) trials() *cobra.Command {
	return &cobra.Command{
		Use:   "trials [RUN]",
		Short: "List trials, or show the verdicts of one",
		Args:  args(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, rest []string) error {
			ctx := cmd.Context()
			d, err := a.desk(ctx)
			if err != nil {
				return err
			}
			defer d.Close()
			if len(rest) == 1 {
				return a.printTrial(ctx, d, rest[0])
			}
			list, err := d.Components.Trials(ctx, "")
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, r := range list {
						row(r.ID, r.Plan.Target.Name, r.Plan.Words, string(r.State), r.Result+r.Error)
					}
				})
			})
		},
	}
}
