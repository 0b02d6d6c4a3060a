package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// fronts are the commands for what visitors see instead of a site.
func (a *app) fronts() []*cobra.Command {
	var text, contact, file string
	park := a.front(
		"park SITE",
		"Take a site off the air behind a notice, without deleting anything",
		"Show visitors a notice with a contact instead of the site. Of a copy the gateway shows it; of a live "+
			"WordPress site its own means for maintenance, by two files that alibi lift takes away again. The "+
			"contact is set once in the configuration, under [front].",
		func(ctx context.Context, d *desk.Desk, s site.Site, typed string) (site.Site, error) {
			return d.Copies.Park(ctx, s.ID, text, contact, typed)
		},
	)
	park.Flags().StringVar(&contact, "contact", "",
		"a mail or web address for visitors (default from the configuration)")
	maintain := a.front(
		"maintenance SITE",
		"Show visitors that a site is being worked on",
		"Show visitors a notice that the site is being worked on. alibi lift ends it.",
		func(ctx context.Context, d *desk.Desk, s site.Site, typed string) (site.Site, error) {
			return d.Copies.Maintain(ctx, s.ID, text, typed)
		},
	)
	for _, c := range []*cobra.Command{park, maintain} {
		c.Flags().StringVar(&text, "text", "", "a sentence for visitors")
	}
	hide := a.front(
		"hide COPY",
		"Have a copy ask its visitors for a password",
		"Have a copy ask its visitors for a password, by HTTP's own way of asking; any name will do. alibi "+
			"lift ends it.",
		func(ctx context.Context, d *desk.Desk, s site.Site, _ string) (site.Site, error) {
			password, err := readPassword(file)
			if err != nil {
				return s, err
			}
			return d.Copies.Hide(ctx, s.ID, password)
		},
	)
	hide.Flags().StringVar(&file, "password-file", "", "file with the password; - reads it from standard input")
	lift := a.front(
		"lift SITE",
		"Show a parked, hidden or maintained site again",
		"Show visitors the site itself again.",
		func(ctx context.Context, d *desk.Desk, s site.Site, typed string) (site.Site, error) {
			return d.Copies.Lift(ctx, s.ID, typed)
		},
	)
	return []*cobra.Command{park, maintain, hide, lift}
}

// front is a command that changes what visitors of a site see; the name of a
// live one has to be typed.
func (a *app) front(
	use, short, long string,
	do func(context.Context, *desk.Desk, site.Site, string) (site.Site, error),
) *cobra.Command {
	var confirm string
	c := &cobra.Command{
		Use:               use,
		Short:             short,
		Long:              long,
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if s.Role == site.Live {
				if err := a.confirm(s.Name, confirm, "visitors of a live site would see it at once"); err != nil {
					return err
				}
			}
			s, err := do(ctx, d, s, s.Name)
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) {
				if s.Front == nil {
					fmt.Fprintf(w, "visitors see %s again\n", s.Name)
					return
				}
				fmt.Fprintf(w, "visitors of %s see: %s. %s\n", s.Name, s.Front.Heading(), s.Front.Sentence())
			})
		}),
	}
	c.Flags().StringVar(&confirm, "confirm", "", "the site's name, if it is live")
	return c
}
