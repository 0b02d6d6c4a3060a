package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// going are the flags of commands that bring a site to another state.
type going struct {
	confirm     string
	dry, detach bool
}

func (g *going) add(c *cobra.Command) {
	c.Flags().StringVar(&g.confirm, "confirm", "",
		"the site's name, where it is live, held or has changes that are nowhere else")
	c.Flags().BoolVar(&g.dry, "plan", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&g.detach, "detach", false, "do not wait for the end")
}

// goOn carries a plan out once the name was typed that it asks for.
func (a *app) goOn(ctx context.Context, d *desk.Desk, p plan.Plan, g going) error {
	return a.carryOut(ctx, d, p, g.confirm, g.dry, g.detach)
}

func (a *app) restore() *cobra.Command {
	var g going
	var kinds []string
	var c reset.Choices
	cmd := &cobra.Command{
		Use:   "restore POINT",
		Short: "Bring a site back to a restore point, or a part of it",
		Long: "Bring a site, live or a copy, back to what it was at one of its restore points, where it stands; a " +
			"site's name is its newest point, so that restoring a site undoes what was done to it last. " +
			"With --files, --database, --path, --table, --kind or --item only a part comes back; all else stays. " +
			"Content that is put back by kind or by number is put among what is there: what came since stays. " +
			"Visitors see a notice meanwhile, a restore point is taken first, and the result is compared row by row " +
			"and file by file before they see the site again; if anything fails, everything is taken back. The name " +
			"of a live or held site must be typed: --confirm.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.withPoint(func(ctx context.Context, d *desk.Desk, p desk.Point) error {
			var err error
			if c.Kinds, err = site.ParseKinds(kinds); err != nil {
				return usageError{err}
			}
			c.Files = c.Files || len(c.Paths) > 0
			c.Database = c.Database || len(c.Tables)+len(c.Kinds)+len(c.Items) > 0
			if !c.Files && !c.Database {
				c.Files, c.Database = true, true
			}
			if len(c.Tables) > 0 && len(c.Kinds)+len(c.Items) > 0 {
				return usageError{fmt.Errorf("say tables, or kinds and items, not both")}
			}
			made, err := d.Points.PlanRestore(ctx, p, c)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, made, g)
		}),
	}
	f := cmd.Flags()
	f.BoolVar(&c.Files, "files", false, "only the files")
	f.BoolVar(&c.Database, "database", false, "only the database")
	f.StringSliceVar(&c.Paths, "path", nil, "only these files and folders, as they are called below the site's root")
	f.StringSliceVar(&c.Tables, "table", nil, "only these tables")
	f.StringSliceVar(&kinds, "kind", nil, "only content of these kinds: "+site.KindList(site.Kinds))
	f.Int64SliceVar(&c.Items, "item", nil, "only these pieces of content, by number")
	g.add(cmd)
	return cmd
}

func (a *app) reset() *cobra.Command {
	var g going
	var to, passwordFile string
	var kinds []string
	var left bool
	var c reset.Clean
	cmd := &cobra.Command{
		Use:   "reset SITE",
		Short: "Bring a site to a clean state, to its origin, to a restore point, or to another site",
		Long: "Bring a site to another state where it stands. --to says to which: clean (all content, all plugins' " +
			"tables and settings and all accounts but one administrator go; the default), origin (a copy, in line " +
			"with its origin again), made (a copy, what it was when it was made with --keep), a restore point by its " +
			"number or name, or site:NAME (another site is laid over a copy). " +
			"Smaller: --kind takes only content of some kinds away, --plugin only what one plugin keeps in tables, " +
			"--tidy takes plugins, themes or uploads out, with exceptions; --left lists them. " +
			"What goes and what stays is shown first. Visitors see a notice meanwhile, and alibi restore " +
			"SITE undoes it.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if left {
				return a.printLeft(ctx, d, s)
			}
			var err error
			if c.Wish.Kinds, err = site.ParseKinds(kinds); err != nil {
				return usageError{err}
			}
			smaller := len(c.Wish.Kinds) > 0 || c.Wish.Plugin != ""
			if to != "" && to != "clean" {
				if smaller || len(c.Tidy) > 0 {
					return usageError{
						fmt.Errorf("--kind, --plugin and --tidy clean a site; with --to %s all of it is replaced", to),
					}
				}
				return a.resetTo(ctx, d, s, to, g)
			}
			if len(c.Wish.Kinds) > 0 && c.Wish.Plugin != "" {
				return usageError{fmt.Errorf("say --kind or --plugin, not both")}
			}
			c.Wish.All = to == "clean" || !smaller && len(c.Tidy) == 0
			password, err := readPassword(passwordFile)
			if err != nil {
				return err
			}
			p, err := d.Copies.PlanClean(ctx, s.ID, c, password)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, g)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&to, "to", "", "clean, origin, made, a restore point, or site:NAME")
	f.StringSliceVar(&kinds, "kind", nil, "only content of these kinds goes: "+site.KindList(site.Kinds))
	f.StringVar(&c.Wish.Plugin, "plugin", "", "only what this plugin keeps in tables goes, as far as its name tells")
	f.StringSliceVar(&c.Tidy, "tidy", nil, "what to take out: plugins, themes, uploads")
	f.StringSliceVar(&c.Except, "except", nil, "what stays on them, by name")
	f.StringVar(&c.Wish.Theme, "theme", "", "the theme of the clean site (default one of the core's own)")
	f.StringVar(&c.Wish.Admin.Name, "admin", "", "the administrator who stays or is made (default the first one)")
	f.StringVar(&c.Wish.Admin.Mail, "mail", "", "that account's mail address")
	f.StringVar(&passwordFile, "password-file", "", "file with a new password for it; - reads it from standard input")
	f.BoolVar(&left, "left", false, "list what plugins, themes and uploads there are, and do nothing")
	g.add(cmd)
	return cmd
}

// readPassword reads a secret from a file: on a command line everybody would see it.
func readPassword(file string) (string, error) {
	var b []byte
	var err error
	switch file {
	case "":
		return "", nil
	case "-":
		b, err = io.ReadAll(io.LimitReader(os.Stdin, 4096))
	default:
		b, err = os.ReadFile(file)
	}
	if err != nil {
		return "", fmt.Errorf("reading the password: %w", err)
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

// resetTo brings a site to a state that is somewhere already.
func (a *app) resetTo(ctx context.Context, d *desk.Desk, s site.Site, to string, g going) error {
	var p plan.Plan
	var err error
	name, isSite := strings.CutPrefix(to, "site:")
	switch {
	case to == "origin":
		p, err = d.Copies.PlanRefresh(ctx, s.ID)
	case to == "made":
		var point desk.Point
		if point, err = d.Points.MadePoint(ctx, s); err == nil {
			p, err = d.Points.PlanRestore(ctx, point, reset.Choices{Files: true, Database: true})
		}
	case isSite:
		var other site.Site
		if other, err = d.Fleet.Find(ctx, name); err == nil {
			p, err = d.Copies.PlanLay(ctx, s.ID, other.ID)
		}
	default:
		var point desk.Point
		if point, err = d.Points.FindPoint(ctx, to); err != nil {
			break
		}
		if point.Site.ID == s.ID {
			p, err = d.Points.PlanRestore(ctx, point, reset.Choices{Files: true, Database: true})
		} else {
			p, err = d.Points.PlanBack(ctx, s.ID, point)
		}
	}
	if err != nil {
		return err
	}
	if p.Words == "" { // the copy is built anew, beside the one that is there
		p.Words = "what " + to + " is"
	}
	return a.goOn(ctx, d, p, g)
}

func (a *app) printLeft(ctx context.Context, d *desk.Desk, s site.Site) error {
	list, err := d.Copies.Left(ctx, s)
	if err != nil {
		return err
	}
	if list == nil {
		list = []stack.Leftover{}
	}
	return a.print(list, func(w io.Writer) {
		table(w, func(row func(...string)) {
			for _, p := range list {
				row(p.Folder, p.Name, site.Number(p.Files)+" files", site.Size(p.Bytes))
			}
		})
		if len(list) > 0 {
			fmt.Fprintf(w, "take them out with: alibi reset %s --tidy plugins,themes,uploads --except NAME\n", s.Name)
		}
	})
}

// printParts shows what goes and what stays.
func printParts(row func(...string), p plan.Plan) {
	for _, l := range []struct {
		word string
		list []plan.Part
	}{
		{cmp.Or(map[plan.Kind]string{plan.Change: "changes", plan.Trial: "tries", plan.Blank: "comes",
			plan.Sync: "carries"}[p.Kind], "goes"), p.Goes}, {"stays", p.Stays},
	} {
		for i, x := range l.list {
			row(site.Either(i == 0, l.word, ""), x.What, x.Amount(), x.Note)
		}
	}
}

// printTakes says how long a run is thought to take, where that is known.
func printTakes(row func(...string), p plan.Plan) {
	if e := p.Estimate; e.High > 0 {
		row("takes", fmt.Sprintf("%s to %s (%s)", site.Seconds(e.Low), site.Seconds(e.High), e.Basis))
	}
}
