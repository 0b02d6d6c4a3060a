package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/pins"
	"alibi/internal/site"
)

func (a *app) pins() *cobra.Command {
	c := &cobra.Command{
		Use:   "pins",
		Short: "Pin sheets: what a copy has to run",
		Long: "A pin sheet is a TOML file that says what a copy has to run: core, PHP, plugins and themes with " +
			"versions or ranges, and what becomes of the others. Its lock says what the ranges meant, with digests. " +
			"The format is in docs/formats/pin-sheet.md.",
	}
	c.AddCommand(a.pinsList(), a.pinsShow(), a.pinsMake(), a.pinsImport(), a.pinsEdit(), a.pinsSet(), a.pinsLock(),
		a.pinsApply(), a.pinsReport(), a.pinsName())
	return c
}

func (a *app) pinsList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the stored sheets, with what each means", Args: args(cobra.NoArgs),
		RunE: a.with(func(_ context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Pins.PinSheets()
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "there is no pin sheet yet; pin a site as it is with: alibi pins make SITE")
				}
				table(w, func(row func(...string)) {
					for _, p := range list {
						means := p.Means
						if p.Wrong != "" {
							means = "not right: " + strings.SplitN(p.Wrong, "\n", 2)[0]
						}
						row(p.Name, site.Either(p.Default, "default", ""), means)
					}
				})
			})
		})}
}

func (a *app) pinsShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show [NAME]",
		Short: "Show a sheet, and what it means",
		Args:  args(cobra.MaximumNArgs(1)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, rest []string) error {
			p, err := d.Pins.PinSheet(strings.Join(rest, ""))
			if err != nil {
				return err
			}
			return a.print(p, func(w io.Writer) { fmt.Fprintf(w, "# %s: %s\n\n%s", p.Name, p.Means, p.Text) })
		}),
	}
}

func (a *app) pinsMake() *cobra.Command {
	var name string
	var over bool
	c := &cobra.Command{
		Use:               "make SITE",
		Short:             "Pin a site as it is",
		Long:              "Write a sheet of what a site runs now: every version exactly, and what is on and off.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			src, err := d.Pins.PinsOf(ctx, s.ID)
			if err != nil {
				return err
			}
			if name == "" {
				name = site.Slug(s.Name)
			}
			return a.savedPins(d.Pins.SavePins(name, src, over))
		}),
	}
	c.Flags().StringVar(&name, "name", "", "of the sheet (default: the site's)")
	c.Flags().BoolVar(&over, "over", false, "save over a sheet of that name")
	return c
}

func (a *app) savedPins(p desk.PinSheet, err error) error {
	if err != nil {
		return err
	}
	return a.print(p, func(w io.Writer) { fmt.Fprintf(w, "%s: %s\n", p.Name, p.Means) })
}

func (a *app) pinsImport() *cobra.Command {
	var over bool
	c := &cobra.Command{
		Use:   "import NAME FILE",
		Short: "Store a sheet that was written by hand, after checking it",
		Args:  args(cobra.ExactArgs(2)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, rest []string) error {
			src, err := os.ReadFile(rest[1])
			if err != nil {
				return fmt.Errorf("reading the sheet: %w", err)
			}
			return a.savedPins(d.Pins.SavePins(rest[0], src, over))
		}),
	}
	c.Flags().BoolVar(&over, "over", false, "save over a sheet of that name")
	return c
}

func (a *app) pinsEdit() *cobra.Command {
	return &cobra.Command{
		Use:   "edit NAME",
		Short: "Change a sheet in $EDITOR; it is stored once it is right",
		Args:  args(cobra.ExactArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, rest []string) error {
			p, err := d.Pins.PinSheet(rest[0])
			if err != nil && p.Wrong == "" {
				return err
			}
			src, err := a.edited(ctx, rest[0]+".toml", p.Src)
			if err != nil {
				return err
			}
			if _, err := pins.Parse(rest[0], src); err != nil {
				return fmt.Errorf("nothing was stored:\n%w", err)
			}
			return a.savedPins(d.Pins.SavePins(rest[0], src, true))
		}),
	}
}

// edited gives what a person made of a text in the editor.
func (a *app) edited(ctx context.Context, name string, src []byte) ([]byte, error) {
	dir, err := os.MkdirTemp("", "alibi-edit-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := dir + "/" + name
	if err := os.WriteFile(file, src, 0o600); err != nil {
		return nil, err
	}
	editor := desk.Editor()
	cmd := exec.CommandContext(ctx, "sh", "-c", editor+` "$1"`, "sh", file)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.in, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("the editor %s: %w; nothing was changed", editor, err)
	}
	return os.ReadFile(file)
}

func (a *app) pinsSet() *cobra.Command {
	var theme bool
	c := &cobra.Command{
		Use:   "set NAME COMPONENT VERSION",
		Short: "Set the version of one component in a sheet",
		Long: "Set the version of one component, exact (2.4.1), a range (>=2.4 <3, 2.4.*, ~2.4.1, ^2.4) or newest. " +
			"Comments and everything else in the sheet stay as they are.",
		Args: args(cobra.ExactArgs(3)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, rest []string) error {
			p, err := d.Pins.PinSheet(rest[0])
			if err != nil {
				return err
			}
			src, err := setComponent(p.Src, theme, rest[1], rest[2])
			if err != nil {
				return err
			}
			return a.savedPins(d.Pins.SavePins(rest[0], src, true))
		}),
	}
	c.Flags().BoolVar(&theme, "theme", false, "it is a theme")
	return c
}

// setComponent sets the version of a plugin, a theme, or the core.
func setComponent(src []byte, theme bool, name, version string) ([]byte, error) {
	switch {
	case name == "core" && !theme:
		return pins.Set(src, "core", "version", version)
	case theme:
		return pins.Set(src, "themes", name, version)
	}
	return pins.Set(src, "plugins", name, version)
}

func (a *app) pinsLock() *cobra.Command {
	return &cobra.Command{
		Use:   "lock [NAME]",
		Short: "Write into a sheet what its ranges mean now, with digests",
		Args:  args(cobra.MaximumNArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, rest []string) error {
			return a.savedPins(d.Pins.LockPins(ctx, strings.Join(rest, "")))
		}),
	}
}

func (a *app) pinsApply() *cobra.Command {
	var c changing
	var name string
	cmd := &cobra.Command{
		Use:   "apply COPY",
		Short: "Bring a copy to a sheet",
		Long: "Show what goes up, down, on and off for a copy to run what a sheet says, and do it. A " +
			"restore point is taken first, and alibi restore COPY undoes it. If the copy does not answer then, " +
			"the change is rolled back.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			p, err := d.Pins.PlanPins(ctx, s.ID, name, nil)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	cmd.Flags().StringVar(&name, "sheet", "", "the sheet (default: the one that was chosen as that)")
	c.going.add(cmd)
	return cmd
}

func (a *app) pinsReport() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use:   "report [SITE...]",
		Short: "What sites run, side by side: pinned, floating, outdated, unlike the origin, not met",
		Long: "Lay out what sites run, as they were inspected last, and say of each component whether " +
			"it is pinned or floating, whether a newer version waits, whether it is unlike the origin's, and what it " +
			"asks for and does not get. alibi draw versions FILE draws it.",
		Args:              args(cobra.ArbitraryArgs),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, rest []string) error {
			var ids []site.ID
			for _, n := range rest {
				s, err := d.Fleet.Find(ctx, n)
				if err != nil {
					return err
				}
				ids = append(ids, s.ID)
			}
			g, err := d.Pins.PinGrid(ctx, ids...)
			if err != nil {
				return err
			}
			return a.print(g, func(w io.Writer) {
				table(w, func(row func(...string)) {
					row("SITE", "KIND", "NAME", "VERSION", "STATE", "")
					for i, s := range g.Names {
						for _, r := range g.Rows {
							c := r.Cells[i]
							if c.Version == "" ||
								!all &&
									!slices.ContainsFunc(c.Marks,
										func(m string) bool { return m != desk.MarkPinned && m != desk.MarkFloating }) {
								continue
							}
							row(s, r.Kind, r.Slug, c.Version, c.State, strings.Join(c.Why, "; "))
						}
					}
				})
				if !all {
					fmt.Fprintln(w, "only what is off its pin, outdated, unlike its origin or not met is listed; all "+
						"of it: --all")
				}
			})
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "every component, not only what needs a look")
	return c
}

func (a *app) pinsName() *cobra.Command {
	var to string
	var remove, standard bool
	c := &cobra.Command{
		Use:   "name NAME",
		Short: "Rename a sheet, remove it, or make it the default",
		Args:  args(cobra.ExactArgs(1)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, rest []string) error {
			switch {
			case remove:
				return d.Pins.RenamePins(rest[0], "")
			case standard:
				return d.Pins.DefaultPins(rest[0])
			case to != "":
				return d.Pins.RenamePins(rest[0], to)
			}
			return usageError{fmt.Errorf("say --to NAME, --remove or --default")}
		}),
	}
	c.Flags().StringVar(&to, "to", "", "the new name")
	c.Flags().BoolVar(&remove, "remove", false, "remove the sheet")
	c.Flags().BoolVar(&standard, "default", false, "mean this sheet where none is named")
	return c
}

// meantPins is the pin sheet that is meant: the usual one where none is named.
func meantPins(d *desk.Desk, named string) string {
	switch named {
	case desk.NoPins:
		return ""
	case "":
		return d.Pins.UsualPins()
	}
	return named
}
