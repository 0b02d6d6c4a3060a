package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

func (a *app) allow() *cobra.Command {
	var once, end bool
	c := &cobra.Command{
		Use:   "allow COPY [HOST[:PORT]]",
		Short: "Let a copy's code reach something outside, or list what it may reach",
		Long: `Let a copy's code reach a host outside, at one port (HOST alone: 443 and 80); *.HOST is all below a
name. It holds for the copy's life; with --once for an hour. What is said stays as it is: encryption is not
opened. How much went out and came in is listed by: alibi caught COPY. With --end it is refused again.
Without HOST, what the copy may reach is listed.`,
		Example:           "  alibi allow winter api.example:443\n  alibi allow winter '*.pay.example:443' --once",
		Args:              args(cobra.RangeArgs(1, 2)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			if len(given) == 0 {
				if once || end {
					return usageError{errors.New("say what is meant: HOST or HOST:PORT")}
				}
				return a.print(s.Allowed(), func(w io.Writer) { printAllowed(w, s) })
			}
			var err error
			switch {
			case end && once:
				return usageError{errors.New("say --once or --end, not both")}
			case end:
				s, err = d.Copies.Refuse(ctx, s.ID, given[0])
			default:
				s, err = d.Copies.Allow(ctx, s.ID, given[0], site.Either(once, desk.Once, 0))
			}
			if errors.Is(err, site.ErrNoTarget) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			return a.print(s.Allowed(), func(w io.Writer) { printAllowed(w, s) })
		}),
	}
	c.Flags().BoolVar(&once, "once", false, "for an hour")
	c.Flags().BoolVar(&end, "end", false, "take it back")
	return c
}

func printAllowed(w io.Writer, s site.Site) {
	list := s.Allowed()
	if len(list) == 0 {
		fmt.Fprintf(w, "%s may reach nothing outside\n", s.Name)
		return
	}
	table(w, func(row func(...string)) {
		row("MAY REACH", "UNTIL")
		for _, p := range list {
			until := "its end"
			if !p.Until.IsZero() {
				until = site.Either(time.Now().After(p.Until), "it is over", p.Until.Local().Format("2 Jan 15:04"))
			}
			row(p.To, until)
		}
	})
}
