package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/archive"
	"alibi/internal/desk"
	"alibi/internal/op/export"
	"alibi/internal/site"
)

func (a *app) archives() *cobra.Command {
	c := &cobra.Command{
		Use:   "archives",
		Short: "List archives of sites, make them, check them, and read them back",
		Long: "List the archives that were made here: of which site, how old, how large, and whether each is still " +
			"where it was made. An archive is one file that standard tools read too: a tar, compressed with zstd.",
		Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Points.Archives(ctx)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printArchives(w, list, d.Now()) })
		}),
	}
	c.AddCommand(a.archiveMake(), a.archiveCheck(), a.archiveImport())
	return c
}

func printArchives(w io.Writer, list []export.Note, now time.Time) {
	if len(list) == 0 {
		fmt.Fprintln(w, "no archives were made here; make one with: alibi archives make SITE FILE")
		return
	}
	table(w, func(row func(...string)) {
		row("OF", "AS OF", "AGE", "SIZE", "WHERE", "")
		for _, n := range list {
			where := n.Path
			if n.Parts > 0 {
				where += fmt.Sprintf(" (%d parts)", n.Parts)
			}
			row(n.Name, n.Taken.Local().Format("Mon 2 Jan 15:04"), site.Span(now.Sub(n.Taken)), site.Size(n.Size),
				where, site.Either(n.There, "", "gone"))
		}
	})
}

func (a *app) archiveMake() *cobra.Command {
	var g going
	var part string
	var all bool
	var c export.Choices
	cmd := &cobra.Command{
		Use:   "make SITE|POINT FILE",
		Short: "Write a site, or a restore point, into an archive",
		Long: "Write a site into one file: its files, its rows as SQL, and the digest of each, and read it back to " +
			"see that it is whole. A restore point is taken for it, or the one that is named is used. FILE may be a " +
			"folder that is there; the archive then gets a name with the site's and the date. " +
			"Passwords, their digests and keys are left out, unless it is encrypted: --for says for whom (an age " +
			"recipient, age1...). --part writes it in parts of a size, which are needed together. With --all, every " +
			"live site goes into the folder that is named.",
		Args: args(cobra.RangeArgs(1, 2)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			var err error
			if c.Part, err = site.ParseSize(part); err != nil {
				return usageError{err}
			}
			c.To = given[len(given)-1]
			if all {
				return a.archiveAll(ctx, d, c, g)
			}
			if len(given) < 2 {
				return usageError{fmt.Errorf("say of what, and into which file or folder")}
			}
			s, p, err := a.siteOrPoint(ctx, d, given[0])
			if err != nil {
				return err
			}
			made, err := d.Points.PlanArchive(ctx, s, p, c)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, made, g)
		}),
	}
	cmd.Flags().StringVar(&part, "part", "", "write it in parts of this size, such as 500MB or 2GiB")
	cmd.Flags().StringSliceVar(&c.For, "for", nil,
		"encrypt it for these age recipients; then passwords and keys are in it")
	cmd.Flags().BoolVar(&all, "all", false, "every live site, into a folder")
	cmd.Flags().BoolVar(&g.dry, "plan", false, "show what would be done, and do nothing")
	cmd.Flags().BoolVar(&g.detach, "detach", false, "do not wait for the end")
	return cmd
}

// siteOrPoint finds what a person names: a site, else a restore point.
func (a *app) siteOrPoint(ctx context.Context, d *desk.Desk, name string) (site.Site, *desk.Point, error) {
	s, err := d.Fleet.Find(ctx, name)
	if err == nil {
		return s, nil, nil
	}
	p, perr := d.Points.FindPoint(ctx, name)
	if perr != nil {
		return s, nil, err
	}
	return p.Site, &p, nil
}

// archiveAll writes every live site into a folder. One that fails does not keep
// the others from being written.
func (a *app) archiveAll(ctx context.Context, d *desk.Desk, c export.Choices, g going) error {
	all, err := d.Fleet.Sites(ctx)
	if err != nil {
		return err
	}
	failed := 0
	for _, s := range all {
		if s.Role != site.Live || s.State == site.Gone {
			continue
		}
		made, err := d.Points.PlanArchive(ctx, s, nil, c)
		if err == nil {
			err = a.goOn(ctx, d, made, g)
		}
		if err != nil {
			failed++
			fmt.Fprintf(a.err, "alibi: %s: %v\n", s.Name, err)
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d sites were not archived", failed)
	}
	return nil
}

func (a *app) archiveCheck() *cobra.Command {
	var key string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Read every byte of an archive and check it",
		Long: "Read every byte of an archive, in one file or in parts, and compare it with the digests in it. Exit " +
			"code 3 if it is damaged, or a part is missing.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			m, err := d.Points.CheckArchive(ctx, given[0], key, func(int64) {})
			if errors.Is(err, archive.ErrDamaged) {
				return fmt.Errorf("%w: %w", errNoProof, err)
			}
			if err != nil {
				return err
			}
			m.Schema = nil
			return a.print(m, func(w io.Writer) {
				fmt.Fprintf(w, "%s, as of %s: %s files and %s rows; every byte is what it was\n", m.Site.Name,
					m.Taken.Local().Format("Mon 2 Jan 2006 15:04"), site.Number(m.Files), site.Number(m.Rows))
			})
		}),
	}
	c.Flags().StringVar(&key, "key", "", "file with the age key, if it is encrypted")
	return c
}

func (a *app) archiveImport() *cobra.Command {
	var key, as string
	var g going
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Read an archive back, as a restore point",
		Long: "Read an archive into the depot, on this or another machine, also after its site was deleted. It " +
			"becomes a restore point: alibi points copy makes a running copy of it. With --as it becomes one of a " +
			"site that is there, at the same address, and alibi restore brings that site to it. Nothing of it is " +
			"used before all of it was checked.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			var to *site.Site
			if as != "" {
				s, err := d.Fleet.Find(ctx, as)
				if err != nil {
					return err
				}
				to = &s
			}
			p, err := d.Points.PlanImport(ctx, given[0], key, to)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, g)
		}),
	}
	c.Flags().StringVar(&key, "key", "", "file with the age key, if it is encrypted")
	c.Flags().StringVar(&as, "as", "", "the site of which it becomes a restore point")
	c.Flags().BoolVar(&g.dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&g.detach, "detach", false, "do not wait for the end")
	return c
}

func (a *app) content() *cobra.Command {
	var kinds []string
	export := &cobra.Command{
		Use:   "export SITE FILE",
		Short: "Write content of a site in the open form that its CMS imports",
		Long: "Write content of a site, all or of some kinds, into a new file: RSS 2.0 with the " +
			"namespaces in which WordPress exports content and imports it. The site is only read. Plugins, settings " +
			"and the files of pictures are no part of it; an archive has them.",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			only, err := site.ParseKinds(kinds)
			if err != nil {
				return usageError{err}
			}
			n, err := d.Hands.ExportContent(ctx, s, only, given[0])
			if err != nil {
				return err
			}
			return a.print(map[string]any{"items": n, "file": given[0]},
				func(w io.Writer) { fmt.Fprintf(w, "%s items are in %s\n", site.Number(n), given[0]) })
		}),
	}
	export.Flags().StringSliceVar(&kinds, "kind", nil, "only content of these kinds: "+site.KindList(site.Kinds))
	var g going
	bring := &cobra.Command{
		Use:   "import SITE FILE",
		Short: "Add content from such a file to a site",
		Long: "Add content that WordPress or Alibi exported to a site. Items that are there already are " +
			"passed by; authors are found by their names, groups are found or made, and addresses of the site that " +
			"it comes from become this one's. A restore point is taken first, and alibi restore SITE undoes it.",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			p, err := d.Hands.PlanBring(ctx, s.ID, given[0])
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, g)
		}),
	}
	g.add(bring)
	c := &cobra.Command{
		Use:   "content",
		Short: "Export and import content alone",
		Args:  args(cobra.NoArgs),
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	c.AddCommand(export, bring)
	return c
}
