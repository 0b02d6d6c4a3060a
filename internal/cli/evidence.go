package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/site"
)

func (a *app) evidence() *cobra.Command {
	var strict, last bool
	c := &cobra.Command{
		Use:   "evidence COPY",
		Short: "Compare a copy with its origin, value by value",
		Long: "Compare a copy with its origin: every row and file, addresses left, serialized values, " +
			"pages, and that the two are apart. Exit code 3 if anything is damaged; work done on either side since " +
			"is told, and is no damage unless --strict is given.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if last {
				reps, err := d.Copies.Reports(ctx, s.ID, 1)
				if err != nil {
					return err
				}
				if len(reps) == 0 {
					return fmt.Errorf("there is no evidence about %s yet", s.Name)
				}
				return a.report(&reps[0])
			}
			return a.kept(ctx, d, func() error {
				rep, err := d.Copies.Prove(ctx, s.ID, strict, nil)
				if err != nil {
					return err
				}
				return a.report(rep)
			})
		}),
	}
	c.Flags().BoolVar(&strict, "strict", false, "take every difference for damage")
	c.Flags().BoolVar(&last, "last", false, "show the latest evidence instead of gathering it anew")
	return c
}

func (a *app) report(rep *evidence.Report) error {
	if err := a.print(rep, func(w io.Writer) { printReport(w, rep) }); err != nil {
		return err
	}
	if !rep.Proof().Holds {
		return fmt.Errorf("%w: %s", errNoProof, rep.Summary())
	}
	return nil
}

// mostPlaces is how many places of a check are printed.
const mostPlaces = 20

func printReport(w io.Writer, rep *evidence.Report) {
	fmt.Fprintf(w, "%s, compared with %s in %s\n\n", rep.Name, rep.Origin, site.Seconds(rep.Took))
	table(w, func(row func(...string)) {
		row("", "", "ORIGIN", "COPY", "")
		for _, c := range rep.Checks {
			row(string(c.Verdict), c.Title, c.Origin, c.Copy, c.Text)
			for i, p := range c.Where {
				if i == mostPlaces {
					row("", fmt.Sprintf("  and %d more; --json names up to a hundred", c.Number-i))
					break
				}
				row("", "  "+p)
			}
		}
	})
	fmt.Fprintf(w, "\n%s\n", rep.Summary())
}
