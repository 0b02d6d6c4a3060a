package cli

import (
	"context"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
)

func (a *app) blank() *cobra.Command {
	var w desk.BlankWish
	var lease, file string
	var dry, detach bool
	c := &cobra.Command{
		Use:   "new NAME",
		Short: "Make a blank site with a chosen core and PHP",
		Long: "Make a site that is a copy of nothing: a core of the catalogue, with a database of its own, behind " +
			"the same quiet rules, banner and lease as any copy, installed by the CMS's own routine. Core, PHP, " +
			"settings, components and ballast can come from a pin sheet (--pins). Without a password file nobody's " +
			"password signs in to it; a key does: alibi open NAME --inside.",
		Args: args(cobra.ExactArgs(1)),
		Example: "  alibi new practice --core 6.1 --php 8.2\n  alibi new spring --pins next-spring --hold 'for " +
			"the course'",
		RunE: a.with(func(ctx context.Context, d *desk.Desk, rest []string) error {
			w.Name = rest[0]
			var err error
			if w.Lease, err = span(lease, d.Lease()); err != nil {
				return err
			}
			if w.Hold != "" {
				w.Lease = 0
			}
			if file != "" {
				if w.Password, err = readPassword(file); err != nil {
					return err
				}
			}
			w.Pins = meantPins(d, w.Pins)
			p, err := d.Copies.PlanBlank(ctx, w, nil)
			if err != nil {
				return err
			}
			if err := a.carryOut(ctx, d, p, "", dry, detach); err != nil || w.Pins == "" || dry || detach {
				return err
			}
			return a.pinning(ctx, d, p.Target.ID)
		}),
	}
	f := c.Flags()
	f.StringVar(&w.Core, "core", "", "version of the core (default: the pin sheet's, or the newest)")
	f.StringVar(&w.PHP, "php", "", "series of PHP (default: the pin sheet's, or the newest here)")
	f.StringVar(&w.Pins, "pins", "", "the pin sheet that it is brought to; none: no sheet (default: the sheet that "+
		"was chosen as that)")
	f.StringVar(&w.Title, "title", "", "what it calls itself (default: its name)")
	f.StringVar(&w.Purpose, "for", "", "what is to be tried on it")
	f.StringVar(&w.Admin, "admin", "", "name of its administrator (default keeper)")
	f.StringVar(&w.Mail, "mail", "", "the administrator's mail address")
	f.StringVar(&file, "password-file", "", "file with the administrator's password; - is standard input")
	f.StringVar(&lease, "lease", "", "how long it lives: 6h, 3d, 2w (default from the configuration)")
	f.StringVar(&w.Hold, "hold", "", "give it no end, for this reason")
	f.BoolVar(&dry, "plan", false, "show what would be done, and do nothing")
	f.BoolVar(&detach, "detach", false, "do not wait for the end")
	return c
}
