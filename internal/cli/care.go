package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// care are the commands that look after a site without changing what it shows.
func (a *app) care() []*cobra.Command {
	return []*cobra.Command{a.caches(), a.timing(), a.shell(), a.security(), a.deliveries()}
}

func (a *app) caches() *cobra.Command {
	var c changing
	var object string
	cmd := &cobra.Command{
		Use:   "caches SITE",
		Short: "Empty a site's caches, and switch its cache of objects",
		Long: "Remove what a site keeps only to be faster: folders of caches and results kept in tables " +
			"for a while. --object on or off switches the cache of objects that is installed in it. A restore point " +
			"is taken first.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := d.Hands.PlanCaches(ctx, s.ID, object)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	cmd.Flags().StringVar(&object, "object", "", "on or off")
	c.going.add(cmd)
	return cmd
}

func (a *app) timing() *cobra.Command {
	var live bool
	c := &cobra.Command{
		Use:   "timing COPY",
		Short: "How long pages of a copy take, beside its origin's",
		Long: "Ask a copy three times for a page of every kind that visitors see, and print the middle " +
			"of the times. --live asks its origin for the same pages, three times each and one after the other.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			return a.kept(ctx, d, func() error {
				list, err := d.Hands.Timings(ctx, s.ID, live)
				if err != nil {
					return err
				}
				return a.print(list, func(w io.Writer) {
					table(w, func(row func(...string)) {
						row("PAGE", "ADDRESS", "ANSWERS", "TOOK", "SIZE", "ORIGIN'S")
						for _, t := range list {
							was := ""
							if t.Origin > 0 {
								was = fmt.Sprintf("%d ms", t.Origin.Milliseconds())
							}
							row(t.Kind, t.Path, fmt.Sprint(t.Status), fmt.Sprintf("%d ms", t.Took.Milliseconds()),
								site.Size(int64(t.Bytes)), was)
						}
					})
				})
			})
		}),
	}
	c.Flags().BoolVar(&live, "live", false, "ask its origin too")
	return c
}

func (a *app) security() *cobra.Command {
	return &cobra.Command{
		Use:               "security SITE",
		Short:             "Look at a site's safety: accounts, versions, code among uploads, quiet rules",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			list, err := d.Hands.Security(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printFindings(w, list) })
		}),
	}
}

func (a *app) deliveries() *cobra.Command {
	return &cobra.Command{Use: "deliveries", Short: "What came to sites from repositories", Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Fleet.Deliveries(ctx)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, x := range list {
						row(x.At.Format(time.DateTime), x.Who, x.Site, x.What, x.From, x.Ref)
					}
				})
				fmt.Fprintf(w, "%d in all\n", len(list))
			})
		})}
}
