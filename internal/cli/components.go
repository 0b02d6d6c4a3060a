package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
)

// componentCommands are those that look at and change what a site runs.
func (a *app) componentCommands() []*cobra.Command {
	return []*cobra.Command{
		a.components(),
		a.search(),
		a.install(),
		a.update(),
		a.switches(),
		a.uninstall(),
		a.rescue(),
		a.runtime(),
	}
}

func (a *app) components() *cobra.Command {
	var ask, history bool
	c := &cobra.Command{
		Use:   "components SITE",
		Short: "List plugins, themes, core and runtime, with what they ask for",
		Long: "List what a site runs: core, runtime, plugins and themes with version and state, what " +
			"each asks for, what it asks for and does not get, and what waits to be updated. With --updates the " +
			"catalogue is asked for the newest versions; without it the list says what the site itself knows.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if history {
				return a.moved(ctx, d, s)
			}
			list, err := d.Components.Components(ctx, s.ID, ask)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				table(w, func(row func(...string)) {
					row("KIND", "NAME", "VERSION", "STATE", "NEWEST", "")
					for _, c := range list.All {
						row(string(c.Kind), c.Slug, c.Version, c.State, c.Newest, strings.Join(c.Remarks, "; "))
					}
				})
				for _, n := range list.Notes {
					fmt.Fprintln(w, n)
				}
			})
		}),
	}
	c.Flags().BoolVar(&ask, "updates", false, "ask the catalogue for the newest versions")
	c.Flags().BoolVar(&history, "history", false, "what was brought, moved and switched, newest first, as far as "+
		"Alibi did it")
	return c
}

func (a *app) moved(ctx context.Context, d *desk.Desk, s site.Site) error {
	list, err := d.Components.ComponentHistory(ctx, s.ID)
	if err != nil {
		return err
	}
	return a.print(list, func(w io.Writer) {
		if len(list) == 0 {
			fmt.Fprintf(w, "Alibi changed nothing that %s runs\n", s.Name)
		}
		table(w, func(row func(...string)) {
			for _, m := range list {
				row(m.At.Format(time.DateTime), m.What, m.How, m.Who, m.Run)
			}
		})
	})
}

func (a *app) search() *cobra.Command {
	var themes bool
	c := &cobra.Command{
		Use:   "search WORDS",
		Short: "Find plugins or themes in the catalogue",
		Args:  args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, words []string) error {
			ctx := cmd.Context()
			d, err := a.desk(ctx)
			if err != nil {
				return err
			}
			defer d.Close()
			kind := site.Plugin
			if themes {
				kind = site.Theme
			}
			list, err := d.Components.Catalogue().Search(ctx, kind, strings.Join(words, " "))
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintf(w, "the catalogue has no %s for these words\n", kind)
					return
				}
				table(w, func(row func(...string)) {
					row("NAME", "TITLE", "BY", "NEWEST", "ASKS FOR", "")
					for _, i := range list {
						row(i.Slug, i.Name, i.Author, i.Newest, asks(i.RequiresCore, i.RequiresPHP, i.Requires), i.Text)
					}
				})
			})
		},
	}
	c.Flags().BoolVar(&themes, "themes", false, "themes rather than plugins")
	return c
}

// asks says what a component asks for.
func asks(core, php string, plugins []string) string {
	var out []string
	if core != "" {
		out = append(out, "core "+core)
	}
	if php != "" {
		out = append(out, "PHP "+php)
	}
	return strings.Join(append(out, plugins...), ", ")
}

// changing are the flags of commands that change what a site runs.
type changing struct {
	going
	anyway bool
}

func (c *changing) add(cmd *cobra.Command) {
	c.going.add(cmd)
	cmd.Flags().BoolVar(&c.anyway, "anyway", false,
		"let it stay so even if the copy does not answer then; else everything is taken back")
}

// change plans a change and carries it out.
func (a *app) change(ctx context.Context, d *desk.Desk, s site.Site, w desk.ChangeWish, c changing) error {
	w.Anyway = c.anyway
	p, err := d.Components.PlanChange(ctx, s.ID, w, nil)
	if err != nil {
		return err
	}
	return a.goOn(ctx, d, p, c.going)
}

func (a *app) install() *cobra.Command {
	var c changing
	var theme, plugin, off, activate bool
	var secret, digest string
	cmd := &cobra.Command{
		Use:   "install SITE COMPONENT...",
		Short: "Bring plugins and themes to a site, and activate them",
		Long: "Bring plugins and themes to a site from outside. A component is a name of the catalogue (tide-table, " +
			"or tide-table@2.5.0 for one version), the address of its page there, an archive's address, a local " +
			"archive (zip or tar), a git repository with #BRANCH, #TAG or #COMMIT, or site:NAME/SLUG from " +
			"another site. " +
			"Archives are checked before anything of them is used: names that lead elsewhere, links and too much are " +
			"refused, and so is what is not what the catalogue says. Plugins are activated (--off leaves them off), " +
			"themes only with --activate. " +
			"A restore point is taken first. If a copy does not answer afterwards, the change is rolled back.",
		Args:              args(cobra.MinimumNArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			kind := site.ComponentKind("")
			switch {
			case theme && plugin:
				return usageError{fmt.Errorf("say --theme or --plugin, not both")}
			case theme:
				kind = site.Theme
			case plugin:
				kind = site.Plugin
			}
			w := desk.ChangeWish{Off: off}
			for _, text := range rest {
				src, err := site.ParseSource(kind, text)
				if err != nil {
					return usageError{err}
				}
				if src.Kind == "" && src.From == "" {
					src.Kind = site.Plugin
				}
				src.Secret, src.Digest = secret, digest
				w.Put = append(w.Put, src)
			}
			if activate {
				list, err := d.Components.Fetch(ctx, w.Put)
				if err != nil {
					return err
				}
				if i := slices.IndexFunc(list, func(s site.Source) bool { return s.Kind == site.Theme }); i >= 0 {
					w.Theme = list[i].Slug
				}
			}
			return a.change(ctx, d, s, w, c)
		}),
	}
	f := cmd.Flags()
	f.BoolVar(&theme, "theme", false, "these are themes")
	f.BoolVar(&plugin, "plugin", false, "these are plugins (default: what they turn out to be; names of the "+
		"catalogue are plugins)")
	f.BoolVar(&off, "off", false, "do not put the plugins on")
	f.BoolVar(&activate, "activate", false, "put the theme on")
	f.StringVar(&secret, "secret-file", "", "file with a key or a token for the git repository")
	f.StringVar(&digest, "digest", "", "what the files must be: sha256:..., as a pin sheet's lock says it")
	c.add(cmd)
	return cmd
}

func (a *app) update() *cobra.Command {
	var c changing
	var all bool
	var core string
	cmd := &cobra.Command{
		Use:   "update SITE [NAME[@VERSION]...]",
		Short: "Bring plugins, themes or the core of a site to another version",
		Long: "Bring plugins and themes of a site to their newest version, or to the one that is named; " +
			"--all takes everything that waits. --core brings the core of a copy to a version, or to the newest: its " +
			"data are brought in line, and a restore point undoes all of it.",
		Args:              args(cobra.MinimumNArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			if len(rest) == 0 && !all && core == "" {
				return usageError{
					fmt.Errorf("say what to update: names, --all or --core; see what waits: alibi components "+
						"%s --updates", s.Name),
				}
			}
			w, err := d.Components.UpdateWish(ctx, s.ID, rest, all, core)
			if err != nil {
				return err
			}
			return a.change(ctx, d, s, w, c)
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "all plugins and themes that have a newer version")
	cmd.Flags().StringVar(&core, "core", "", "the core too, to this version or the newest")
	c.add(cmd)
	return cmd
}

func (a *app) switches() *cobra.Command {
	var c changing
	var w desk.ChangeWish
	cmd := &cobra.Command{
		Use:   "switch SITE",
		Short: "Put plugins on or off and choose the theme, from outside",
		Long: "Put plugins on or off, or another theme on, from outside: it works when the site itself " +
			"is broken. What a plugin that goes off is needed for, and what one that goes on conflicts with, is " +
			"said first.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if len(w.On)+len(w.PutOff) == 0 && !w.AllOff && w.Theme == "" {
				return usageError{fmt.Errorf("say what to switch: --on, --off, --all-off or --theme")}
			}
			return a.change(ctx, d, s, w, c)
		}),
	}
	f := cmd.Flags()
	f.StringSliceVar(&w.On, "on", nil, "plugins to activate")
	f.StringSliceVar(&w.PutOff, "off", nil, "plugins to deactivate")
	f.BoolVar(&w.AllOff, "all-off", false, "put all plugins off")
	f.StringSliceVar(&w.Except, "except", nil, "with --all-off: plugins that stay on")
	f.StringVar(&w.Theme, "theme", "", "the theme to activate")
	c.add(cmd)
	return cmd
}

func (a *app) uninstall() *cobra.Command {
	var c changing
	var unused bool
	var except []string
	cmd := &cobra.Command{
		Use:   "uninstall SITE [NAME...]",
		Short: "Remove plugins and themes from a site",
		Long: "Put plugins off and remove their files, and remove themes that are not on. What they " +
			"keep in tables stays: alibi reset SITE --plugin NAME takes that. --unused takes everything that is off.",
		Args:              args(cobra.MinimumNArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			if unused {
				list, err := d.Components.Components(ctx, s.ID, false)
				if err != nil {
					return err
				}
				for _, x := range list.All {
					if x.State == "off" && !slices.Contains(except, x.Slug) {
						rest = append(rest, x.Slug)
					}
				}
			}
			if len(rest) == 0 {
				return usageError{fmt.Errorf("say what to remove: names, or --unused")}
			}
			return a.change(ctx, d, s, desk.ChangeWish{Delete: rest}, c)
		}),
	}
	cmd.Flags().BoolVar(&unused, "unused", false, "all plugins and themes that are off")
	cmd.Flags().StringSliceVar(&except, "except", nil, "with --unused: what stays")
	c.add(cmd)
	return cmd
}

func (a *app) rescue() *cobra.Command {
	var c changing
	var again bool
	cmd := &cobra.Command{
		Use:   "rescue SITE",
		Short: "Get a broken site to answer again, from outside",
		Long: "Show what a site that does not answer complains of, put all of its plugins off and one " +
			"of the core's own themes on, from outside. With --again the plugins of a copy are then " +
			"activated one at a " +
			"time; those with which it breaks stay off and are named with the reason. alibi restore SITE brings " +
			"back what was.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if why, err := d.Components.Complaints(ctx, s); err == nil && len(why) > 0 {
				fmt.Fprintf(a.err, "%s complains: %s\n", s.Name, why[0])
			}
			w, was, err := d.Components.RescueWish(ctx, s.ID)
			if err != nil {
				return err
			}
			c.anyway = true
			if err := a.change(ctx, d, s, w, c); err != nil || !again || c.dry || c.detach {
				return err
			}
			return a.kept(ctx, d, func() error {
				return d.Components.Again(ctx, s.ID, was, func(slug, why string) {
					fmt.Fprintln(
						a.out,
						strings.TrimSuffix(slug+": "+why, ": ")+
							site.Either(why == "on again", "", ", stays off"),
					)
				})
			})
		}),
	}
	cmd.Flags().BoolVar(&again, "again", false, "put the plugins on again, one at a time")
	c.going.add(cmd)
	return cmd
}

func (a *app) runtime() *cobra.Command {
	var c changing
	var to site.Runtime
	var hide bool
	var extensions []string
	cmd := &cobra.Command{
		Use:   "runtime COPY",
		Short: "Show or change the PHP of a copy, and its bounds",
		Long: "Show what a copy runs on, or change its PHP version, the memory and time of one request, " +
			"the largest upload, and whether errors are shown on pages. Without flags it lists the PHP versions of " +
			"this machine. If the copy does not answer then, the change is rolled back.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if s.Role != site.Copy {
				return usageError{fmt.Errorf("%s is a live site: its runtime is its host's", s.Name)}
			}
			if to == (site.Runtime{}) && !hide && extensions == nil {
				return a.print(s.Runtime, func(w io.Writer) {
					fmt.Fprintf(w, "%s runs %s\n", s.Name, s.Runs())
					for _, p := range d.PHP() {
						fmt.Fprintf(w, "  PHP %s is on this machine\n", p.Version)
						if x, err := p.Extensions(ctx); err == nil {
							fmt.Fprintf(w, "    with %s\n", strings.Join(x.Loaded, ", "))
						}
					}
					for _, f := range php.Empty(ctx, d.Config().Runtime.PHP...) {
						fmt.Fprintf(
							w,
							"  no PHP is in %s, which config.toml names under [runtime] php: correct the folder, or "+
								"take it out\n",
							f,
						)
					}
				})
			}
			if _, err := (site.Bounds{}).With(to.Bounds); err != nil {
				return usageError{err}
			}
			r := to.Or(s.Runtime)
			r.Show = r.Show && !hide
			if extensions != nil {
				var err error
				if r.Extensions, err = php.ParseChoice(extensions); err != nil {
					return usageError{err}
				}
			}
			return a.change(ctx, d, s, desk.ChangeWish{Runtime: &r}, c)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&to.PHP, "php", "", "series: 8.2")
	f.StringVar(&to.Memory, "memory", "", "of one request: 256M")
	f.IntVar(&to.RunTime, "seconds", 0, "of one request")
	f.StringVar(&to.Upload, "upload", "", "the largest: 64M")
	f.StringVar(&to.Bounds, "bounds", "", "of its programs: 'memory=2G processes=64 disk=10G'")
	f.BoolVar(&to.Show, "show-errors", false, "show errors on pages")
	f.StringSliceVar(&extensions, "extensions", nil,
		"extensions of PHP besides the usual ones (intl) and not to be there (-gd); empty: the usual ones")
	f.BoolVar(&hide, "hide-errors", false, "hide errors from pages")
	c.add(cmd)
	return cmd
}
