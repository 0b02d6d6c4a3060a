package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/access"
	"alibi/internal/desk"
	"alibi/internal/site"
)

// sheetActs are what can be done with an access sheet at once.
type sheetActs struct {
	set                    []string
	from, to, like         string
	ask, check, use, plain bool
	key, remove            bool
}

func (a *app) access() *cobra.Command {
	var do sheetActs
	c := &cobra.Command{
		Use:   "access [NAME]",
		Short: "Access sheets: how a host and a site on it are reached, field by field",
		Long: "An access sheet has what is known of how a host, and a site on it, are reached: each field with where one " +
			"finds it, checked by its form as it is filled in, and tried with --check. It is filled by --set, by --ask, which " +
			"asks for what is missing, from a file (--from, in the form that --sheet writes), or from another sheet " +
			"(--like). Passwords don't stand on it, but where they are kept: secret:NAME, or a file. --use brings the host, " +
			"the server for databases there and the site into the record. Without a name the sheets are listed.",
		Args: args(cobra.MaximumNArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if len(given) == 0 {
				return a.listSheets(d)
			}
			return a.sheet(ctx, d, given[0], do)
		}),
	}
	f := c.Flags()
	f.StringArrayVar(&do.set, "set", nil, "FIELD=VALUE; may be given several times")
	f.StringVar(&do.from, "from", "", "file with a sheet (TOML); - is standard input")
	f.StringVar(&do.to, "sheet", "", "write it to a file, to be filled in; - is standard output")
	f.StringVar(&do.like, "like", "", "fill what is empty from another sheet")
	f.BoolVar(&do.ask, "ask", false, "ask for what is missing")
	f.BoolVar(&do.check, "check", false, "sign in, open the document root, ask the database server; nothing is written")
	f.BoolVar(&do.key, "make-key", false, "make a pair of keys, and say what the host's keeper has to add")
	f.BoolVar(&do.use, "use", false, "bring the host and the site into the record")
	f.BoolVar(&do.plain, "plain", false, "with --use: by ftp or http, where nothing is encrypted")
	f.BoolVar(&do.remove, "remove", false, "forget the sheet; the host, secrets and keys stay")
	return c
}

func (a *app) listSheets(d *desk.Desk) error {
	names, err := d.Fleet.Sheets()
	if err != nil {
		return err
	}
	return a.print(append([]string{}, names...), func(w io.Writer) {
		table(w, func(row func(...string)) {
			for _, n := range names {
				s, err := d.Fleet.Sheet(n)
				text := s.Way + " " + s.User + "@" + s.Host
				if s.Way == access.Site {
					text = s.Way + " " + s.User + " at " + s.Address
				}
				if err != nil {
					text = err.Error()
				}
				row(n, text)
			}
		})
		if len(names) == 0 {
			fmt.Fprintln(w, "there is no access sheet; begin one with: alibi access NAME --ask")
		}
	})
}

// sheet does what was asked with one sheet, in the order in which that makes sense, and shows it.
func (a *app) sheet(ctx context.Context, d *desk.Desk, name string, do sheetActs) error {
	if do.remove {
		if err := d.Fleet.RemoveSheet(name); err != nil {
			return err
		}
		return a.print(map[string]string{"removed": name}, func(w io.Writer) {
			fmt.Fprintf(w, "the sheet %s is gone; the host, its secrets and a key that was made stay\n", name)
		})
	}
	if err := a.fillSheet(d, name, do); err != nil {
		return err
	}
	s, err := d.Fleet.Sheet(name)
	if err != nil {
		return err
	}
	if do.to != "" {
		return a.writeSheet(s, do.to)
	}
	if do.use {
		return a.useSheet(ctx, d, name, do.plain)
	}
	seen := s.Look()
	if do.check {
		if seen, err = d.Fleet.TrySheet(ctx, name); err != nil {
			return err
		}
	}
	err = a.print(map[string]any{"name": name, "sheet": s, "fields": seen}, func(w io.Writer) { printSheet(w, s, seen) })
	if err == nil && do.check && !access.Ready(seen) {
		err = errors.New("the sheet is not right yet")
	}
	return err
}

// fillSheet fills a sheet in.
func (a *app) fillSheet(d *desk.Desk, name string, do sheetActs) error {
	if do.from != "" {
		if err := a.readSheet(d, name, do.from); err != nil {
			return err
		}
	}
	for _, x := range do.set {
		field, v, ok := strings.Cut(x, "=")
		if !ok {
			return usageError{fmt.Errorf("%q sets nothing: write FIELD=VALUE", x)}
		}
		if err := d.Fleet.SetField(name, field, v, false); err != nil {
			return err
		}
	}
	if do.like != "" {
		o, err := d.Fleet.Sheet(do.like)
		if err != nil {
			return err
		}
		s, err := d.Fleet.Sheet(name)
		if err != nil {
			return err
		}
		filled := s.Like(o)
		if err := d.Fleet.PutSheet(name, s); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "from %s: %s\n", do.like, site.Either(len(filled) > 0, strings.Join(filled, ", "), "nothing"))
	}
	if do.key {
		line, err := d.Fleet.MakeKey(name)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.err, "the host's keeper adds this line to authorized_keys of the account:\n%s\n", line)
	}
	if do.ask {
		return a.askSheet(d, name)
	}
	return nil
}

func (a *app) readSheet(d *desk.Desk, name, from string) error {
	text, err := readAll(from)
	if err != nil {
		return err
	}
	_, moved, err := d.Fleet.ReadSheet(name, text)
	for _, field := range moved {
		fmt.Fprintf(a.err, "%s was put among the secrets; take it out of %s\n", field, from)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	return nil
}

func readAll(from string) ([]byte, error) {
	if from == "-" {
		return io.ReadAll(os.Stdin)
	}
	return os.ReadFile(from)
}

func (a *app) writeSheet(s access.Sheet, to string) error {
	text := access.Write(s)
	if to == "-" {
		_, err := a.out.Write(text)
		return err
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("writing the sheet: %w", err)
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}

// askSheet asks for each field that is missing or wrong, until it has the right form or is left empty.
func (a *app) askSheet(d *desk.Desk, name string) error {
	t := terminal{a}
	if !t.isThere() {
		return usageError{errors.New("nobody is there to ask: fill the sheet in with --set or --from")}
	}
	for _, f := range access.Fields {
		for {
			s, err := d.Fleet.Sheet(name)
			if err != nil {
				return err
			}
			x := stateOf(s, f.Name)
			if x.State != access.Missing && x.State != access.Wrong {
				break
			}
			if x.State == access.Wrong {
				fmt.Fprintf(a.err, "  %s\n", x.Text)
			}
			v, err := a.askField(t, f)
			if err != nil {
				return err
			}
			if v == "" {
				break
			}
			if err := d.Fleet.SetField(name, f.Name, v, true); err != nil {
				fmt.Fprintf(a.err, "  %v\n", err)
			}
		}
	}
	return nil
}

func (a *app) askField(t terminal, f access.Field) (string, error) {
	fmt.Fprintf(a.err, "%s (%s)\n", f.Name, f.Where)
	if f.Secret {
		return t.Secret(f.Title)
	}
	return t.ask(f.Title + ": "), nil
}

func stateOf(s access.Sheet, field string) access.Seen {
	for _, x := range s.Look() {
		if x.Field == field {
			return x
		}
	}
	return access.Seen{}
}

func (a *app) useSheet(ctx context.Context, d *desk.Desk, name string, plainly bool) error {
	u, err := d.Fleet.UseSheet(ctx, name, plainly)
	if err != nil {
		return err
	}
	return a.print(u, func(w io.Writer) {
		fmt.Fprintf(w, "host %s answers, and is in the record\n", u.Host.Name)
		if u.Site != nil {
			fmt.Fprintf(w, "site %s stands there in %s\n", u.Site.Name, u.Site.Root)
		}
	})
}

func printSheet(w io.Writer, s access.Sheet, seen []access.Seen) {
	table(w, func(row func(...string)) {
		for i, f := range access.Fields {
			row(f.Name, site.Either(f.Get(s) == "", "-", f.Get(s)), string(seen[i].State), seen[i].Text)
		}
	})
}
