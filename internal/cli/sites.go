package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// widestCell is how wide a cell may be before another one; --json gives everything.
const widestCell = 80

// table writes rows in columns.
func table(w io.Writer, rows func(row func(cells ...string))) {
	t := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
	rows(func(cells ...string) {
		for i := range cells[:max(0, len(cells)-1)] {
			cells[i] = desk.Short(&cells[i], widestCell)
		}
		fmt.Fprintln(t, strings.Join(cells, "\t"))
	})
	t.Flush()
}

func (a *app) list() *cobra.Command {
	var due bool
	c := &cobra.Command{
		Use:   "list [TEXT]",
		Short: "List live sites with their copies",
		Long: "List live sites with their copies, or those that a text occurs in.\nWith --due copies only, by " +
			"what ends next.",
		Args: args(cobra.MaximumNArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			b, err := d.Fleet.Board(ctx)
			if err != nil {
				return err
			}
			if len(given) > 0 {
				b = b.Matching(given[0])
			}
			if due {
				b.Families = b.Due()
			}
			return a.print(b, func(w io.Writer) {
				printBoard(w, b)
				printIdle(w, b.Runs, d.Home())
			})
		}),
	}
	c.Flags().BoolVar(&due, "due", false, "copies only, by what ends next")
	return c
}

func printBoard(w io.Writer, b desk.Board) {
	if len(b.Families) == 0 {
		fmt.Fprintln(w, "no sites; add one: alibi add HOST:/path/of/its/document/root")
		return
	}
	table(w, func(row func(...string)) {
		row("SITE", "STATE", "ON", "RUNS", "SIZE", "APART", "LEASE", "EVIDENCE")
		for _, f := range b.Families {
			if f.Live.ID != "" {
				row("LIVE "+f.Live.Name, f.Live.StateText(), f.Live.Host, f.Live.Runs(), site.Size(f.Live.Bytes()), "",
					"", "")
			}
			if f.Live.ID == "" && len(b.Families) > 1 {
				row("of origins that were forgotten, or of none")
			}
			for _, c := range f.Copies {
				row(site.Either(c.Origin == "", "  blank ", "  copy ")+c.Name, c.StateText(), c.Host,
					c.Runs(), site.Size(c.Bytes()), c.ApartText(), c.LeaseText(b.At), c.ProofText())
			}
		}
	})
	fmt.Fprintf(w, "\n%d live, %s, %s within a day, %s\n", b.Live, site.Plural(b.Copies, "copy", "copies"),
		site.Plural(b.EndSoon, "ends", "end"), site.Plural(len(b.Runs), "run", "runs"))
}

func (a *app) inspect() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect SITE",
		Short: "Show what a site is, what it runs and its size",
		Long: "Read a site anew and show what it is: versions, contents, size, what reaches outward. " +
			"Nothing is written to it.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			s, err := d.Fleet.Inspect(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { printSite(w, s) })
		}),
	}
}

func printSite(w io.Writer, s site.Site) {
	f := s.Facts
	fmt.Fprintf(w, "%s %s, on %s at %s\n", strings.ToUpper(string(s.Role)), s.Name, s.Host, s.Root)
	table(w, func(row func(...string)) {
		row("title", f.Title)
		for i, ad := range s.Addresses {
			row(site.Either(i == 0, "address", "also"), ad.String())
		}
		if text := s.StateText(); text != "" {
			row("state", text)
		}
		row("runs", s.Runs())
		if s.Relay != "" {
			row("tables", "read through a relay at "+s.Relay)
		}
		if f.Network != nil {
			row("network", f.Network.Text())
		}
		row("files", fmt.Sprintf("%s, %s", site.Number(f.Files), site.Size(f.Bytes)))
		row("tables", fmt.Sprintf("%d with %s rows, %s", len(f.Tables), site.Number(f.Rows), site.Size(f.TableBytes)))
		row("read in", site.Seconds(f.Took))
	})
	section(w, "sub-sites, and what is their own", func(row func(...string)) {
		if f.Network == nil {
			return
		}
		for _, b := range f.Network.Sites {
			row(b.Address.Short(), b.Title, b.Weight())
		}
	})
	section(w, site.Either(f.Network != nil, "contents of its main site", "contents"), func(row func(...string)) {
		for _, c := range f.Contents {
			row(c.Kind, fmt.Sprint(c.N))
		}
		for _, c := range f.Users {
			row("users: "+c.Kind, fmt.Sprint(c.N))
		}
	})
	section(w, "plugins and themes", func(row func(...string)) {
		for _, c := range append(append([]site.Component(nil), f.Plugins...), f.Themes...) {
			update := ""
			if c.Update != "" {
				update = c.Update + " waits"
			}
			row(c.Name, c.Version, c.State, update)
		}
	})
	section(w, "reaches outward", func(row func(...string)) {
		for _, o := range f.Outward {
			row(string(o.Rule), o.Host, o.Where)
		}
	})
	section(w, "does by itself", func(row func(...string)) {
		for _, t := range f.Tasks {
			row(t.Hook, t.Every, "next "+t.Next.Local().Format(time.DateTime))
		}
	})
	printFindings(w, f.Findings)
}

func section(w io.Writer, title string, rows func(row func(...string))) {
	any := false
	rows(func(...string) { any = true })
	if any {
		fmt.Fprintf(w, "\n%s\n", title)
		table(w, func(row func(...string)) {
			rows(func(cells ...string) { row(append([]string{" "}, cells...)...) })
		})
	}
}

func printFindings(w io.Writer, list []site.Finding) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(w)
	for _, f := range list {
		fmt.Fprintf(w, "%s: %s\n", f.Severity, f.Text)
		if f.Remedy != "" {
			fmt.Fprintf(w, "    %s\n", f.Remedy)
		}
	}
}

func (a *app) add() *cobra.Command {
	var n desk.NewSite
	c := &cobra.Command{
		Use:   "add [HOST:]PATH",
		Short: "Take a live site under management",
		Long: "Read the document root at PATH on HOST (this machine if none is named) and add the site that is " +
			"there as a live one. Nothing is written to it.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			host, path, ok := strings.Cut(given[0], ":")
			if !ok {
				host, path = "", given[0]
			}
			n.Host, n.Root = host, path
			s, err := d.Fleet.AddSite(ctx, n)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) {
				printSite(w, s)
				fmt.Fprintf(w, "\nadded as %s; copy it with: alibi copy %s\n", s.Name, s.Name)
			})
		}),
	}
	c.Flags().StringVar(&n.Name, "name", "", "how lists call it (default its address)")
	c.Flags().StringVar(&n.Address, "address", "", "its address, if it does not say so itself")
	c.Flags().StringVar(&n.Database, "database", "", "its database, where its configuration names several")
	c.Flags().StringVar(&n.Relay, "relay", "", "the address at which the folder answers (https://ferry.example), where "+
		"its database can't be reached: it is reached through a PHP file that is put into the folder for that time")
	c.Flags().StringVar(&n.Client, "client", "", "whose it is")
	c.Flags().StringVar(&n.Owner, "owner", "", "who answers for it")
	return c
}

func isLive(s site.Site) bool { return s.Role == site.Live }

func (a *app) owner() *cobra.Command {
	return &cobra.Command{
		Use:               "owner SITE NAME",
		Short:             "Say who answers for a site",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			s, err := d.Fleet.SetOwner(ctx, s.ID, given[0])
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { fmt.Fprintf(w, "%s answers for %s\n", s.Owner, s.Name) })
		}),
	}
}

func (a *app) forget() *cobra.Command {
	var confirm string
	c := &cobra.Command{
		Use:               "forget SITE",
		Short:             "Take a live site out of the record; the site is not touched",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isLive),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if err := a.confirm(s.Name, confirm, "Alibi will know nothing of it any more"); err != nil {
				return err
			}
			return d.Fleet.Forget(ctx, s.ID)
		}),
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the site's name")
	return c
}
