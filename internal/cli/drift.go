package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/site"
)

func (a *app) drift() *cobra.Command {
	var noise bool
	var with string
	c := &cobra.Command{
		Use:   "drift COPY",
		Short: "Show what changed on a copy and on its origin since they parted",
		Long: `Show what became of a copy and its origin since they parted, item by item: pages, menus, settings and all
else that rows of tables make, plugins, themes and files, with what differs. What the sites write by
themselves is counted, and listed with --noise. Tables and files of which nothing can be told are named.
With --with, another copy of the same origin is the other side.`,
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			names, err := a.pairOf(ctx, d, s, with)
			if err != nil {
				return err
			}
			got, err := d.Copies.DriftWith(ctx, s.ID, names.with)
			if err != nil {
				return err
			}
			return a.print(got, func(w io.Writer) { printDrift(w, names, got, noise) })
		}),
	}
	c.Flags().BoolVar(&noise, "noise", false, "list what the sites write by themselves too")
	c.Flags().StringVar(&with, "with", "", withHelp)
	return c
}

func (a *app) declare() *cobra.Command {
	return &cobra.Command{
		Use:   "declare SITE",
		Short: "Propose what a plugin's own tables and fields mean",
		Long: `Look through what the tables and fields of a site hold of which Alibi knows nothing, and write a declaration
that says what they mean: which things their rows are, and which of their numbers are those of pages, accounts
and groups. Look through it, and put it in the folder declarations of Alibi's home: alibi drift and alibi sync
then treat such rows like all others.`,
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			text, err := d.Copies.Propose(ctx, s)
			if err != nil {
				return err
			}
			return a.print(map[string]string{"declaration": text}, func(w io.Writer) {
				if text == "" {
					text = "# There is nothing to declare of " + s.Name + ": all of its tables are known, or empty.\n"
				}
				fmt.Fprint(w, text)
			})
		}),
	}
}

func printDrift(w io.Writer, names pairNames, d carry.Drifted, noise bool) {
	on := [2]string{"ON LIVE", "ON THE COPY"}
	if names.with != "" {
		on = [2]string{"ON " + names.live, "ON " + names.copied}
	}
	passing, marks, shown := 0, 0, 0
	table(w, func(row func(...string)) {
		for _, it := range d.Items {
			if it.Noise && !noise || it.Marks {
				passing, marks = passing+one(it.Noise), marks+one(it.Marks)
				continue
			}
			if shown++; shown == 1 {
				row("ITEM", "", "", on[1], on[0], "DIFFERS IN")
			}
			row(it.Name, it.Kind, it.Title, fate(it.Copy), fate(it.Live), differs(it))
		}
	})
	if shown == 0 {
		fmt.Fprintf(w, "%s and %s are as they were when they parted.\n", names.copied,
			site.Either(names.with == "", "its origin", names.live))
	}
	if passing > 0 {
		fmt.Fprintf(w, "\n%s by themselves; --noise lists them.\n",
			site.Plural(passing, "item is one that the sites write", "items are such that the sites write"))
	}
	for _, u := range d.Uncovered {
		fmt.Fprintf(w, "Of %s it can't be told what changed: %s.\n", u.What(), u.Why)
	}
}

func one(yes bool) int {
	if yes {
		return 1
	}
	return 0
}

// fate says what became of an item on a side.
func fate(s drift.State) string {
	if s == drift.Same {
		return "-"
	}
	return string(s)
}

// differs names what of an item differs, and its state where that does.
func differs(it *drift.Item) string {
	out := carry.Differs(it)
	if it.Status != "" {
		out += " (" + it.Status + ")"
	}
	if it.Decided != "" {
		out += "; decided: " + it.Decided
	}
	return out
}
