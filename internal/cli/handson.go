package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/ballast"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/site"
)

// handsOn are the commands for working on a copy.
func (a *app) handsOn() []*cobra.Command {
	return []*cobra.Command{
		a.files(),
		a.edit(),
		a.carry(),
		a.logs(),
		a.tables(),
		a.rows(),
		a.query(),
		a.ballast(),
		a.scrub(),
		a.accounts(),
		a.workList(),
	}
}

func (a *app) files() *cobra.Command {
	var changed, text bool
	c := &cobra.Command{
		Use:   "files SITE [PATH]",
		Short: "List a site's files, with what changed on a copy, or show one",
		Long: "List a folder of a site. Of a copy, files that changed since it was brought are marked: " +
			"changed, new, gone, and own for those that make it a copy. With --changed only these are listed, of the " +
			"whole tree; with --text a file is printed.",
		Args:              args(cobra.RangeArgs(1, 2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			at := strings.Join(rest, "")
			if text {
				b, err := d.Hands.FileText(ctx, s.ID, at)
				if err != nil {
					return err
				}
				_, err = a.raw().Write(b)
				return err
			}
			var list []desk.FileRow
			var err error
			if changed {
				list, err = d.Hands.FilesChanged(ctx, s)
				list = slices.DeleteFunc(list, func(r desk.FileRow) bool { return !strings.HasPrefix(r.Path, at) })
			} else {
				list, err = d.Hands.Files(ctx, s.ID, at)
			}
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) { printFiles(w, list) })
		}),
	}
	c.Flags().BoolVar(&changed, "changed", false, "only what changed on a copy since it was brought")
	c.Flags().BoolVar(&text, "text", false, "print the file")
	return c
}

func printFiles(w io.Writer, list []desk.FileRow) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing is there")
	}
	table(w, func(row func(...string)) {
		for _, f := range list {
			size, state := site.Size(f.Size), string(f.State)
			if f.Dir {
				size = "folder"
			}
			if f.Below > 0 {
				state += fmt.Sprintf(" (%d below)", f.Below)
			}
			name := f.Path
			if f.Link != "" {
				name += " -> " + f.Link
			}
			when := ""
			if !f.ModTime.IsZero() {
				when = f.ModTime.Format(time.DateTime)
			}
			row(state, size, when, name)
		}
	})
}

func (a *app) edit() *cobra.Command {
	var c changing
	var from string
	cmd := &cobra.Command{
		Use:   "edit SITE PATH",
		Short: "Edit a file of a site in $EDITOR, with a syntax check before it lands",
		Long: "Open a file of a site in $EDITOR ($VISUAL first). What comes of it is read by the PHP " +
			"that the site runs before it lands; what that can't read is refused and kept for another try. The " +
			"difference is shown, a restore point is taken first, and alibi restore SITE undoes it. If a copy does " +
			"not answer afterwards, the change is rolled back. With --from the text is a file's, without an editor.",
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			was, err := d.Hands.FileText(ctx, s.ID, rest[0])
			if err != nil && from == "" {
				return err
			}
			var text []byte
			if from != "" {
				if text, err = os.ReadFile(from); err != nil {
					return fmt.Errorf("reading the text: %w", err)
				}
			} else if text, err = a.edited(ctx, path.Base(rest[0]), was); err != nil {
				return err
			}
			p, err := d.Hands.PlanEdit(ctx, s.ID, rest[0], text, c.anyway)
			if err != nil {
				return a.keptText(rest[0], text, from, err)
			}
			if !a.json {
				fmt.Fprint(a.out, desk.Difference(rest[0]+" as it is", rest[0]+" as it will be", was, text))
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	cmd.Flags().StringVar(&from, "from", "", "a file with the new text")
	c.add(cmd)
	return cmd
}

// keptText keeps what was typed and not taken.
func (a *app) keptText(name string, text []byte, from string, err error) error {
	if from != "" || errors.Is(err, desk.ErrNothingToChange) {
		return err
	}
	f, ferr := os.CreateTemp("", "alibi-kept-*-"+name[strings.LastIndexByte(name, '/')+1:])
	if ferr != nil {
		return err
	}
	defer f.Close()
	if _, ferr := f.Write(text); ferr != nil {
		return err
	}
	return fmt.Errorf("%w\nwhat you typed is kept in %s; try it again with --from", err, f.Name())
}

func (a *app) carry() *cobra.Command {
	var c changing
	cmd := &cobra.Command{
		Use:   "carry FROM PATH TO",
		Short: "Put one file or folder of a site in place of another site's",
		Long: "Put a file or a folder of one site, such as a theme that was worked on, in place of the " +
			"one of that name on another, live sites too. Only that folder is touched: what is in it and the other " +
			"site does not have goes. A restore point is taken first, the result is compared, and alibi restore " +
			"TO undoes it.",
		Args:              args(cobra.ExactArgs(3)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			to, err := d.Fleet.Find(ctx, rest[1])
			if err != nil {
				return err
			}
			p, err := d.Hands.PlanCarry(ctx, s.ID, to.ID, rest[0])
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	c.going.add(cmd)
	return cmd
}

func (a *app) logs() *cobra.Command {
	var which, match, kind string
	var follow, count bool
	var last int
	c := &cobra.Command{
		Use:   "logs SITE",
		Short: "Read, filter, count and follow a site's logs",
		Long: "Read the log of errors of a copy's PHP, or of the requests for it (--log access), newest " +
			"last. Of a live site the log of errors is the one that its CMS keeps, if it does. --match keeps lines " +
			"with a text, --kind those of one kind (fatal, parse, warning, notice, deprecated; 2xx to 5xx), --count " +
			"tells how many there are of each.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			l, err := d.Hands.ReadLog(ctx, s.ID, which, match, kind, -1)
			if err != nil {
				return err
			}
			l.Lines = l.Lines[max(0, len(l.Lines)-last):]
			if err := a.print(l, func(w io.Writer) { printLog(w, l, count) }); err != nil || !follow || count {
				return err
			}
			for {
				select {
				case <-ctx.Done():
					return nil
				case <-time.After(500 * time.Millisecond):
				}
				if l, err = d.Hands.ReadLog(ctx, s.ID, which, match, kind, l.End); err != nil {
					return err
				}
				for _, x := range l.Lines {
					fmt.Fprintf(a.out, "%-10s %s\n", x.Kind, x.Text)
				}
			}
		}),
	}
	f := c.Flags()
	f.StringVar(&which, "log", "errors", "errors or access")
	f.StringVar(&match, "match", "", "only lines with this text")
	f.StringVar(&kind, "kind", "", "only lines of this kind")
	f.BoolVarP(&follow, "follow", "f", false, "go on with what is written from now on")
	f.BoolVar(&count, "count", false, "tell how many lines of each kind there are")
	f.IntVar(&last, "last", 100, "lines")
	return c
}

func printLog(w io.Writer, l desk.Log, count bool) {
	if len(l.Kinds) == 0 {
		fmt.Fprintf(w, "nothing is in %s\n", l.Where)
	}
	for _, x := range l.Lines {
		if !count {
			fmt.Fprintf(w, "%-10s %s\n", x.Kind, x.Text)
		}
	}
	if count {
		for _, k := range l.KindsOf() {
			fmt.Fprintf(w, "%6d %s\n", l.Kinds[k], k)
		}
	}
}

func (a *app) ballast() *cobra.Command {
	var c changing
	var l ballast.Load
	var counts []string
	cmd := &cobra.Command{
		Use:   "ballast COPY KIND=N...",
		Short: "Fill a copy with made-up content, or take it out again",
		Long: "Fill a copy with made-up content by counts: posts, pages, terms, users, comments, media, " +
			"and products where a shop keeps some. The same seed makes the same up. --remove takes all that was made " +
			"up out again, of whatever seed.",
		Args:              args(cobra.MinimumNArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		Example: "  alibi ballast winter posts=10 pages=6 terms=4 comments=20\n  alibi ballast " +
			"winter --remove",
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			var err error
			if l.Counts, err = ballast.Parse(append(rest, counts...)); err != nil {
				return usageError{err}
			}
			if len(l.Counts) == 0 && !l.Remove {
				return usageError{
					fmt.Errorf("say how much of what: posts=10 pages=6, or --remove; kinds are %s",
						strings.Join(ballast.Kinds, ", ")),
				}
			}
			p, err := d.Hands.PlanBallast(ctx, s.ID, l)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	cmd.Flags().Uint64Var(&l.Seed, "seed", 1, "from which it is made up")
	cmd.Flags().BoolVar(&l.Remove, "remove", false, "take all ballast out")
	c.going.add(cmd)
	return cmd
}

func (a *app) scrub() *cobra.Command {
	var c changing
	var prove bool
	cmd := &cobra.Command{
		Use:   "scrub COPY",
		Short: "Make up the people on a copy, or prove that none of its origin's are left",
		Long: "Make up names, mail addresses, account names, phones, places and network addresses on a " +
			"copy: the same person becomes the same made-up person in every table, and in every text, whatever it is " +
			"encoded in. Passwords become such that nobody's signs in; keys do. With --prove nothing is changed: " +
			"every value of the copy is searched for what the origin has of people. Copies are scrubbed while they " +
			"are made with: alibi copy --scrub; where a copy leaves this machine and its origin's that is the default.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if prove {
				k, err := d.Hands.PeopleLeft(ctx, s.ID)
				if err != nil {
					return err
				}
				if err := a.print(k, func(w io.Writer) {
					fmt.Fprintf(w, "looked for %s on %s: %s\n", k.Origin, s.Name, k.Copy)
					for _, x := range k.Where {
						fmt.Fprintln(w, "  "+x)
					}
				}); err != nil {
					return err
				}
				if k.Verdict == evidence.Broken {
					return fmt.Errorf("%w: people of its origin are on %s", errNoProof, s.Name)
				}
				return nil
			}
			p, err := d.Hands.PlanScrub(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	cmd.Flags().BoolVar(&prove, "prove", false, "search the copy for its origin's people; exit code 3 if any is found")
	c.going.add(cmd)
	return cmd
}

func (a *app) accounts() *cobra.Command {
	var c changing
	var login, role, mail, file string
	cmd := &cobra.Command{
		Use:   "accounts SITE",
		Short: "List the accounts of a site; add one to a copy, or change it",
		Long: "List those under which one can sign in, with their roles. On a copy, --account adds an " +
			"account, or changes the one of that name: its role, its mail address, its password (from a file, so " +
			"that it stands in no list of commands). alibi open COPY --as NAME signs in as any account, or as the " +
			"first with a role.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(anySite),
		Example:           "  alibi accounts winter --account tester --role editor --password-file word",
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			if login == "" {
				list, err := d.Hands.Accounts(ctx, s.ID)
				if err != nil {
					return err
				}
				return a.print(list, func(w io.Writer) {
					table(w, func(row func(...string)) {
						row("ACCOUNT", "ROLES", "NAME", "MAIL")
						for _, x := range list {
							row(x.Login, strings.Join(x.Roles, ", "), x.Name, x.Mail)
						}
					})
				})
			}
			password := ""
			if file != "" {
				var err error
				if password, err = readPassword(file); err != nil {
					return err
				}
			}
			p, err := d.Hands.PlanAccount(ctx, s.ID, login, role, mail, password)
			if err != nil {
				return err
			}
			return a.goOn(ctx, d, p, c.going)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&login, "account", "", "the account to add or change")
	f.StringVar(&role, "role", "", "administrator, editor, ...")
	f.StringVar(&mail, "mail", "", "its mail address")
	f.StringVar(&file, "password-file", "", "file with its password; - is standard input")
	c.going.add(cmd)
	return cmd
}

func (a *app) workList() *cobra.Command {
	var note, done, again string
	var markdown bool
	c := &cobra.Command{
		Use:   "worklist COPY",
		Short: "What was done on a copy, to be repeated on its origin",
		Long: "List what was done on a copy, as Alibi kept it, with the commands that do the same on " +
			"its origin. What was taken back is marked. --note adds what was done by hand, --done ticks something " +
			"off, --markdown writes the list to be handed on.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			var err error
			switch {
			case note != "":
				err = d.Hands.NoteDeed(ctx, s.ID, note)
			case done != "":
				err = d.Hands.Repeated(ctx, s.ID, done, true)
			case again != "":
				err = d.Hands.Repeated(ctx, s.ID, again, false)
			}
			if err != nil {
				return err
			}
			list, err := d.Hands.WorkList(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				if markdown {
					desk.WriteDeeds(w, s, list)
					return
				}
				if len(list) == 0 {
					fmt.Fprintf(w, "nothing was done on %s yet\n", s.Name)
				}
				for _, x := range list {
					mark := site.Either(x.Repeated, "x", " ")
					if x.Undone || x.Settled {
						mark = "-"
					}
					fmt.Fprintf(w, "[%s] %s  %s  %s: %s%s\n", mark, x.ID, x.At.Format("2 Jan 15:04"), x.Who, x.Text,
						deedEnd(x))
					for _, k := range x.Commands {
						fmt.Fprintf(w, "      %s\n", k)
					}
				}
			})
		}),
	}
	f := c.Flags()
	f.StringVar(&note, "note", "", "add what was done by hand")
	f.StringVar(&done, "done", "", "tick off what was repeated on the origin")
	f.StringVar(&again, "again", "", "take the tick away")
	f.BoolVar(&markdown, "markdown", false, "as a list to be handed on")
	return c
}

// deedEnd says why a deed need not be repeated.
func deedEnd(x desk.Deed) string {
	switch {
	case x.Undone:
		return " (taken back)"
	case x.Settled:
		return " (settled: a later one made it needless, or its origin is so already)"
	}
	return ""
}
