package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

func (a *app) tables() *cobra.Command {
	return &cobra.Command{
		Use:               "tables SITE",
		Short:             "List a site's tables, with rows and sizes",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			list, err := d.Hands.Tables(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					row("TABLE", "ROWS", "ORIGIN'S", "SIZE", "KEY", "COLUMNS")
					for _, t := range list {
						was := "-"
						if t.Origin >= 0 {
							was = site.Number(int(t.Origin))
						}
						row(t.Name, site.Number(int(t.Rows)), was, site.Size(t.Bytes), strings.Join(t.Key, ", "),
							fmt.Sprint(len(t.Columns)))
					}
				})
			})
		}),
	}
}

func (a *app) rows() *cobra.Command {
	var w desk.Where
	var skip, limit int
	var asCSV bool
	c := &cobra.Command{
		Use:   "rows SITE TABLE",
		Short: "Browse and filter the rows of a table",
		Long: "Show rows of a table in the order of its key. --match keeps rows with a text, --column " +
			"looks in that column alone, --is wants it to be just the text. The site is only read.",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			r, err := d.Hands.TableRows(ctx, s.ID, rest[0], w, skip, limit)
			if err != nil {
				return err
			}
			return a.printRows(r, asCSV)
		}),
	}
	f := c.Flags()
	f.StringVar(&w.Text, "match", "", "a text in the row")
	f.StringVar(&w.Column, "column", "", "look in this column alone")
	f.BoolVar(&w.Exact, "is", false, "the column is just the text")
	f.IntVar(&skip, "skip", 0, "rows to pass by")
	f.IntVar(&limit, "limit", 50, "rows to show")
	f.BoolVar(&asCSV, "csv", false, "as comma-separated values")
	return c
}

func (a *app) query() *cobra.Command {
	var write, asCSV bool
	var limit int
	c := &cobra.Command{
		Use:   "query SITE STATEMENT",
		Short: "Run one statement in a site's database",
		Long: "Run one statement in the language of the site's database. Only reading is allowed, and " +
			"held by the server itself; --write unlocks the others on a copy, never on a live site. What writes is " +
			"kept in the history and the work list. A restore point beforehand is yours to take: alibi " +
			"points take COPY.",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			r, err := d.Hands.Query(ctx, s.ID, rest[0], write, limit)
			if err != nil {
				return err
			}
			if r.Columns == nil {
				return a.print(r, func(w io.Writer) { fmt.Fprintf(w, "%d rows changed\n", r.Changed) })
			}
			return a.printRows(r, asCSV)
		}),
	}
	c.Flags().BoolVar(&write, "write", false, "let it write, on a copy")
	c.Flags().IntVar(&limit, "limit", 1000, "rows to show")
	c.Flags().BoolVar(&asCSV, "csv", false, "as comma-separated values")
	return c
}

// widest is how much of a value a list shows, in letters.
const widest = 60

func (a *app) printRows(r desk.Rows, asCSV bool) error {
	if asCSV && !a.json {
		return r.CSV(a.raw())
	}
	return a.print(r, func(w io.Writer) {
		table(w, func(row func(...string)) {
			row(r.Columns...)
			for _, x := range r.Rows {
				line := make([]string, len(x))
				for i, c := range x {
					line[i] = desk.Short(c, widest)
				}
				row(line...)
			}
		})
		if r.More {
			fmt.Fprintf(w, "there are more; see --limit and --skip\n")
		}
	})
}
