package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/site"
	"alibi/internal/stack"
)

func (a *app) trim() *cobra.Command {
	var g going
	var parts []string
	var sheet, from string
	c := &cobra.Command{
		Use:   "trim SITE",
		Short: "What a site can do without, and taking that out",
		Long: "List what visitors do not see of a site and what it can do without: earlier versions, the bin, spam, " +
			"results whose time is over, fields of what is gone, media and archives that nothing names; with the rows, " +
			"files and bytes of each, and the time that it takes of a move. --sheet writes that into a file for the site's " +
			"owners, who say in it what may go; --from takes that out. --part names it yourself. A restore point is taken " +
			"first, visitors see a notice meanwhile, and alibi restore SITE undoes it.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if from != "" && len(parts) > 0 {
				return usageError{fmt.Errorf("say --part or --from, not both")}
			}
			if from == "" && len(parts) == 0 {
				return a.printTrims(ctx, d, s, sheet)
			}
			if from != "" {
				var err error
				if parts, err = d.Copies.ReadTrimSheet(s, from); err != nil {
					return err
				}
			}
			p, err := d.Copies.PlanClean(ctx, s.ID, reset.Clean{Wish: stack.Wish{Trim: parts}}, "")
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, g)
		}),
	}
	c.Flags().StringSliceVar(&parts, "part", nil, "what is taken out, as the list names it")
	c.Flags().StringVar(&sheet, "sheet", "", "write a sheet for the owners into this file")
	c.Flags().StringVar(&from, "from", "", "take out what this sheet says may go")
	g.add(c)
	return c
}

func (a *app) printTrims(ctx context.Context, d *desk.Desk, s site.Site, sheet string) (err error) {
	var list []reset.Weight
	if sheet != "" {
		list, err = d.Copies.WriteTrimSheet(ctx, s.ID, sheet)
	} else {
		list, err = d.Copies.Trims(ctx, s.ID)
	}
	if err != nil {
		return err
	}
	return a.print(list, func(w io.Writer) {
		table(w, func(row func(...string)) {
			for _, t := range list {
				saves := ""
				if t.Saves > 0 {
					saves = site.Seconds(t.Saves) + " of a first pass"
				}
				row(t.Name, site.Either(t.Files, site.Plural(t.Count, "file", "files"), site.Plural(t.Rows, "row", "rows")),
					site.Size(t.Bytes), saves, t.About)
			}
		})
		if sheet != "" {
			fmt.Fprintf(w, "\nwritten to %s; when it is back: alibi trim %s --from %s\n", sheet, s.Name, sheet)
		}
	})
}
