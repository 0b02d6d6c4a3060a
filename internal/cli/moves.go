package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/draw"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// moveNames completes names of moves.
func (a *app) moveNames(_ *cobra.Command, given []string, _ string) ([]string, cobra.ShellCompDirective) {
	d, err := a.desk(context.Background())
	if err != nil || len(given) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer d.Close()
	if len(given) == 1 {
		return moveActs, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := d.Moves.All(context.Background())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, m := range list {
		out = append(out, m.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// What can be done with a move, beside what its gates are called.
const (
	actShow   = "show"
	actGo     = "go"
	actForget = "forget"
	actReport = "report"
)

var moveActs = []string{actShow, actGo, plan.LegBack, plan.LegSurvey, plan.LegCarry, plan.LegCheck, plan.LegNames,
	plan.LegSwitch, plan.LegWatch, plan.LegClear, plan.ActCertificate, actReport, actForget}

func (a *app) moves() *cobra.Command {
	c := &cobra.Command{
		Use:   "moves",
		Short: "List the live sites that are on their way to other places",
		Args:  args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			list, err := d.Moves.All(ctx)
			if err != nil {
				return err
			}
			return a.printMoves(d, list)
		}),
	}
	c.AddCommand(a.movesGo())
	return c
}

func (a *app) move() *cobra.Command {
	var g going
	var n desk.NewMove
	var issued plan.Certificate
	var to string
	c := &cobra.Command{
		Use:   "move SITE... --to HOST | move NAME [show|go|back|...]",
		Short: "Bring a live site to another place, switch it over, and back",
		Long: "Bring a live site to another host or folder, in gates, while it goes on where it stands.\n\n" +
			"alibi move SITE --to HOST begins: both places are looked at, what the new one lacks is listed, and the move is\n" +
			"saved under a name. Nothing is written but the record. Several sites begin at once with a folder that is\n" +
			"named by the site (--root /var/www/{site}), and are brought up to check by alibi moves go.\n" +
			"Then alibi move NAME go goes through the next gate:\n\n" +
			"  survey  see what the new place lacks\n" +
			"  carry   bring what differs; again and again, each time it is less\n" +
			"  check   compare files, rows and pages of both places\n" +
			"  names   shorten how long others keep its names\n" +
			"  switch  hold the site, bring the last, change its names, let visitors in at the new place\n" +
			"  watch   ask servers where they lead visitors\n" +
			"  clear   empty the old place\n\n" +
			"certificate has one issued for the names of the site, before the switch, and puts it into a folder there\n" +
			"(--into). A gate can be named in place of go. back brings the site back to the old place, with all that was\n" +
			"written since, until that is cleared; report tells what became of it; clear before the switch removes what\n" +
			"was brought, and forget takes the move out of the record. What changes a live site or its names asks for\n" +
			"the site's name: --confirm.",
		Args:              args(cobra.MinimumNArgs(1)),
		ValidArgsFunction: a.moveNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if to == "" && len(given) > 2 {
				return usageError{errors.New("name one move, and one of its gates")}
			}
			if to != "" {
				if len(given) > 1 {
					return a.beginMoves(ctx, d, given, to, n)
				}
				return a.beginMove(ctx, d, given[0], to, n)
			}
			m, err := d.Moves.Find(ctx, given[0])
			if err != nil {
				if _, serr := d.Fleet.Find(ctx, given[0]); serr == nil {
					return usageError{fmt.Errorf("%s is on no way: where to? alibi move %s --to HOST", given[0], given[0])}
				}
				return err
			}
			act := actShow
			if len(given) > 1 {
				act = given[1]
			}
			if act == plan.ActCertificate {
				p, err := d.Moves.PlanCertificate(ctx, m, issued)
				if err != nil {
					return err
				}
				return a.goOn(ctx, d, p, g)
			}
			return a.goMove(ctx, d, m, act, n.Collations, g)
		}),
	}
	f := c.Flags()
	f.StringVar(&to, "to", "", "begin a move to this host")
	f.StringVar(&n.Name, "name", "", "what the move is called (default one is found)")
	f.StringVar(&n.Root, "root", "", "folder there (default as where the site stands)")
	f.StringVar(&n.Address, "address", "", "where the site is to answer there (default it keeps its address)")
	f.StringSliceVar(&n.Web, "web", nil, "addresses at which visitors reach the web server there, such as 192.0.2.7")
	f.StringVar(&n.Database.Name, "database", "", "one there that is empty (default one is made on the host's server)")
	f.StringVar(&n.Database.User, "database-user", "", "the account that owns it (default as the database)")
	f.StringVar(&n.Database.Server, "database-server", "", "where it is, as the site is to name it (default localhost)")
	f.StringToStringVar(&n.Collations, "collation", nil, "OWN=OTHER: what tables get there in place of a "+
		"collation of their own;\nwhen a move begins, or with survey (default the nearest one, where the server there lacks "+
		"theirs)")
	f.StringVar(&n.Relay, "relay", "", "the address at which the folder there answers, where its database\n"+
		"is reached by a PHP file of ours only, such as https://ferry.example")
	f.StringVar(&n.PasswordFile, "database-password-file", "", "file with that account's password")
	f.StringVar(&issued.Dir, "into", "", "folder there for a certificate and its key, with certificate")
	f.StringVar(&issued.Reload, "reload", "", "command there by which its web server takes the certificate")
	f.StringVar(&issued.By, "by", "", "how the names are shown to be ours: dns or http (default dns, where that can be)")
	g.add(c)
	return c
}

func (a *app) beginMove(ctx context.Context, d *desk.Desk, name, to string, n desk.NewMove) error {
	s, err := d.Fleet.Find(ctx, name)
	if err != nil {
		return err
	}
	n.Site, n.Host = s.ID, to
	m, err := d.Moves.Begin(ctx, n)
	if err != nil {
		return err
	}
	return a.printMove(d, m)
}

// goMove goes through a gate. other are collations that are chosen.
func (a *app) goMove(ctx context.Context, d *desk.Desk, m plan.Move, act string, other map[string]string,
	g going) error {
	if act == actGo {
		l, more := m.Next(d.Now())
		if !more {
			return a.print(m, func(w io.Writer) {
				fmt.Fprintf(w, "all gates are passed; take the move out of the record with: alibi move %s forget\n", m.Name)
			})
		}
		if act = l.Name; l.Name == plan.LegNames && l.State == plan.Shut && m.Names != nil && !m.Names.Lowered.IsZero() {
			return fmt.Errorf("%w: %s", desk.ErrShut, l.Why)
		}
	}
	var err error
	switch act {
	case actShow:
		return a.printMove(d, m)
	case plan.LegSurvey:
		if len(other) > 0 {
			m, err = d.Moves.Collate(ctx, m.Name, other)
		} else {
			m, err = d.Moves.Survey(ctx, m.Name)
		}
	case plan.LegWatch:
		m, err = d.Moves.Watch(ctx, m.Name)
	case plan.LegNames:
		s, serr := d.Fleet.Site(ctx, m.Site)
		if serr != nil {
			return serr
		}
		if m.Asks() {
			if err := a.confirm(s.Name, g.confirm, "how its names are kept and attached would be changed"); err != nil {
				return err
			}
		}
		m, err = d.Moves.Lower(ctx, m.Name, s.Name)
	case actReport:
		return a.reportMove(ctx, d, m)
	case actForget:
		if err := d.Moves.Forget(ctx, m.Name); err != nil {
			return err
		}
		return a.print(map[string]string{"forgotten": m.Name}, func(w io.Writer) {
			fmt.Fprintf(w, "%s is not in the record any more\n", m.Name)
		})
	case plan.LegCarry, plan.LegCheck, plan.LegSwitch, plan.LegBack, plan.LegClear:
		p, err := d.Moves.Plan(ctx, m, act)
		if err != nil {
			return err
		}
		return a.goOn(ctx, d, p, g)
	default:
		return usageError{fmt.Errorf("%q is no part of a move: %s", act, strings.Join(moveActs, ", "))}
	}
	if err != nil {
		return err
	}
	return a.printMove(d, m)
}

// printMove draws the route.
func (a *app) printMove(d *desk.Desk, m plan.Move) error {
	return a.print(m, func(w io.Writer) {
		table(w, func(row func(...string)) {
			row("move", m.Name)
			row("from", m.From.String()+site.Either(m.Moved, "", ", where it stands"))
			row("to", m.To.String()+site.Either(m.Moved, ", where it stands", ""))
			row("database", m.To.Database.Text()+site.Either(m.Server, ", made on the spot", ""))
			if a := m.To.Address; !a.IsZero() {
				row("address", m.From.Address.String()+" -> "+a.String())
			}
			if c := m.Certificate; c != nil {
				row("certificate", "until "+c.Until.Local().Format("2 Jan 2006")+", in "+c.Dir+" on "+m.To.Host+
					site.Either(len(c.Unseen) > 0, "; not in use yet: "+strings.Join(c.Unseen, "; "), ""))
			}
			if p := m.Panel; p != nil {
				for i, n := range p.Names {
					row(site.Either(i == 0, "attached", ""), n.Name+site.Either(n.Primary, ", the primary name", "")+": "+
						string(n.State)+site.Either(n.Why == "", "", ", "+n.Why))
				}
			}
			row("way back", m.WayBack())
		})
		fmt.Fprintln(w)
		table(w, func(row func(...string)) {
			for _, l := range m.Legs(d.Now()) {
				row(string(l.State), l.Name, l.Title, l.Why)
			}
		})
		printFindings(w, m.Findings())
		if m.Watch != nil && m.Moved {
			fmt.Fprintln(w)
			table(w, func(row func(...string)) {
				for _, x := range m.Watch.Answers {
					row(x.Server, x.Name, x.Says, site.Either(x.New, "the new place", "not the new place"), keeps(x))
				}
			})
		}
		if l, more := m.Next(d.Now()); more && l.State != plan.Shut {
			fmt.Fprintf(w, "\ngo on with: alibi move %s go\n", m.Name)
		}
	})
}

func keeps(x plan.Answer) string {
	return site.Either(x.Keeps > 0, "kept for "+site.Seconds(x.Keeps), "")
}

// printRewrites shows what becomes of the names of a site that is moved.
func printRewrites(row func(...string), p plan.Plan) {
	for i, r := range p.Rewrites {
		if p.Kind.Moves() {
			row(site.Either(i == 0, "names", ""), r.From+" -> "+r.To)
		}
	}
}

// reportMove tells what became of a move.
func (a *app) reportMove(ctx context.Context, d *desk.Desk, m plan.Move) error {
	s, err := d.Fleet.Site(ctx, m.Site)
	if err != nil {
		return err
	}
	return a.print(m, func(w io.Writer) {
		table(w, func(row func(...string)) {
			for _, l := range m.Report(s, d.Now()) {
				row(l[0], l[1])
			}
		})
	})
}

func (a *app) drawMove() *cobra.Command {
	const short = "Write down what became of a move"
	return &cobra.Command{
		Use:               "move NAME FILE",
		Short:             short,
		Long:              short + ": from where, to where, when, what was compared (alibi move NAME report)" + fileSays,
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.moveNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			m, err := d.Moves.Find(ctx, given[0])
			if err != nil {
				return err
			}
			s, err := d.Fleet.Site(ctx, m.Site)
			if err != nil {
				return err
			}
			return a.drawn(draw.Sheet{Title: "Move " + m.Name, Lines: m.Report(s, d.Now())}, given[1])
		}),
	}
}
