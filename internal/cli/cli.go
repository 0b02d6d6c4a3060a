// Package cli is the command line. Each command is a thin layer over package
// desk: what a command does, the screens do by the same functions, and --json
// prints the very values that the screens show.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"alibi/internal/archive"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/keeper"
	"alibi/internal/op/clone"
	"alibi/internal/printable"
	"alibi/internal/site"
	"alibi/internal/work"
)

// Exit codes.
const (
	ExitFailed   = 1
	ExitUsage    = 2
	ExitNoProof  = 3 // evidence does not hold
	ExitNotFound = 4
)

// errNoProof ends a command whose evidence does not hold, after it was printed.
var errNoProof = errors.New("the evidence does not hold")

// usageError is a call whose words are off.
type usageError struct{ error }

// app is what all commands share.
type app struct {
	home    string
	json    bool
	out     io.Writer // through printable, like err
	err     io.Writer
	in      *os.File
	observe func(work.Moment)
	now     func() time.Time // nil: the machine's clock
	screens Screens
}

// Screens starts the full-screen interface on an open desk; carried says that
// this process is the keeper already.
type Screens func(ctx context.Context, d *desk.Desk, carried bool) error

// Run runs the command line and gives the exit code.
func Run(args []string, screens Screens) int {
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // a terminal that is closed ends what was started in it, in order
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ends...)
	defer stop()
	a := &app{out: printable.NewWriter(os.Stdout), err: printable.NewWriter(os.Stderr), in: os.Stdin, screens: screens}
	root := a.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	var usage usageError
	var noProof *clone.NotProven
	switch {
	case errors.Is(err, errNoProof), errors.As(err, &noProof):
		fmt.Fprintln(a.err, "alibi:", err)
		return ExitNoProof
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.err, "alibi: stopped; runs that were under way are taken up again when a keeper starts")
		return ExitFailed
	}
	fmt.Fprintln(a.err, "alibi:", err)
	switch {
	case errors.As(err, &usage):
		return ExitUsage
	case errors.Is(err, inventory.ErrUnknown), errors.Is(err, depot.ErrUnknown), errors.Is(err, archive.ErrMissing):
		return ExitNotFound
	}
	return ExitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "alibi",
		Short: "Faithful, disposable copies of live websites",
		Long: "Alibi makes copies of live websites that can be run, tried, compared and thrown away on time.\n" +
			"Without a command it opens the full-screen interface.\n\n" +
			"Exit codes: 0 done, 1 failed, 2 wrong use, 3 the evidence does not hold, 4 no such site or run.",
		SilenceUsage: true, SilenceErrors: true, Args: noSuchCommand, Version: Version,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.full(cmd.Context()) },
	}
	root.PersistentFlags().StringVar(&a.home, "home", "", "folder of Alibi's own files (default $XDG_DATA_HOME/alibi)")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print values as JSON")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; see: %s --help", err, cmd.CommandPath())}
	})
	root.AddCommand(a.list(), a.inspect(), a.add(), a.owner(), a.forget(), a.host(), a.copy(), a.blank(), a.refresh(),
		a.evidence(), a.drift(), a.sync(), a.declare(), a.open(), a.caught(), a.allow(), a.override(), a.proxy(), a.points(),
		a.archives(), a.restore(), a.reset(), a.extend(), a.hold(), a.expire(), a.bringBack(), a.remove(), a.runs(),
		a.history(), a.leftovers(), a.keeper(), a.move(), a.moves(), a.notices(), a.trim(), a.secrets(), a.access(),
		a.demo())
	root.AddCommand(a.fronts()...)
	root.AddCommand(a.componentCommands()...)
	root.AddCommand(a.trialCommands()...)
	root.AddCommand(a.handsOn()...)
	root.AddCommand(a.care()...)
	root.AddCommand(a.pins())
	root.AddCommand(a.deleted(), a.ends(), a.costs(), a.bulk(), a.draw(), a.content())
	groups(root)
	help := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, given []string) { // only who asks for help waits for its texts
		explain(root)
		help(c, given)
	})
	return root
}

// noSuchCommand refuses a word that is no command.
func noSuchCommand(cmd *cobra.Command, given []string) error {
	if len(given) == 0 {
		return nil
	}
	return usageError{
		fmt.Errorf("unknown command %q for %q; see: %s --help", given[0], cmd.CommandPath(), cmd.CommandPath()),
	}
}

// groups has commands that only hold others say so where none of these is named.
func groups(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		if c.HasSubCommands() && !c.Runnable() {
			c.Args = noSuchCommand
			c.RunE = func(c *cobra.Command, _ []string) error {
				var names []string
				for _, sub := range c.Commands() {
					names = append(names, sub.Name())
				}
				return usageError{
					fmt.Errorf("say which: %s %s; see: %s --help", c.CommandPath(), strings.Join(names, ", "),
						c.CommandPath()),
				}
			}
		}
		groups(c)
	}
}

// Version is set when a release is built.
var Version = "0.1.0"

// args makes cobra's complaints about arguments usage errors.
func args(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, a []string) error {
		if err := check(cmd, a); err != nil {
			return usageError{fmt.Errorf("%w; see: %s --help", err, cmd.CommandPath())}
		}
		return nil
	}
}

// open opens the desk of the home that was asked for.
func (a *app) desk(ctx context.Context) (*desk.Desk, error) {
	home := a.home
	if home == "" {
		var err error
		if home, err = desk.DefaultHome(); err != nil {
			return nil, err
		}
	}
	home, err := filepath.Abs(home)
	if err != nil {
		return nil, err
	}
	return desk.Open(ctx, desk.Options{Home: home, Asker: terminal{a}, Observe: a.observe, Now: a.now})
}

// with opens the desk for a command.
func (a *app) with(
	do func(ctx context.Context, d *desk.Desk, args []string) error,
) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		d, err := a.desk(cmd.Context())
		if err != nil {
			return err
		}
		defer d.Close()
		return do(cmd.Context(), d, args)
	}
}

// withSite is with for commands on one site, which is the first argument.
func (a *app) withSite(
	do func(ctx context.Context, d *desk.Desk, s site.Site, args []string) error,
) func(*cobra.Command, []string) error {
	return a.with(func(ctx context.Context, d *desk.Desk, args []string) error {
		s, err := d.Fleet.Find(ctx, args[0])
		if err != nil {
			return err
		}
		return do(ctx, d, s, args[1:])
	})
}

// kept does something while a keeper is at work: another process, or else this
// one for as long as it takes; also if the other one ends meanwhile.
func (a *app) kept(ctx context.Context, d *desk.Desk, do func() error) error {
	said := ""
	s, err := keeper.Stand(ctx, d, func(works bool, holder string) {
		if !works && holder != said && !a.json {
			said = holder
			fmt.Fprintf(a.err, "the keeper works on it: %s\n", holder)
		}
	})
	if err != nil {
		return err
	}
	err = do()
	return errors.Join(err, s.End())
}

// print writes a value as JSON if that was asked for, and else by text.
func (a *app) print(v any, text func(w io.Writer)) error {
	if !a.json {
		text(a.out)
		return nil
	}
	b, err := encode(v)
	if err != nil {
		return err
	}
	_, err = os.Stdout.Write(printable.JSON(b))
	return err
}

// raw is where bytes go that are meant for programs, as they are; a terminal gets
// them as it gets all else.
func (a *app) raw() io.Writer {
	if term.IsTerminal(int(os.Stdout.Fd())) {
		return a.out
	}
	return os.Stdout
}

// sites completes site names.
func (a *app) siteNames(
	keep func(site.Site) bool,
) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, given []string, _ string) ([]string, cobra.ShellCompDirective) {
		d, err := a.desk(context.Background())
		if err != nil || len(given) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer d.Close()
		all, err := d.Fleet.Sites(context.Background())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, s := range all {
			if keep(s) {
				out = append(out, s.Name)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func anySite(site.Site) bool  { return true }
func isCopy(s site.Site) bool { return s.Role == site.Copy }

// terminal asks the person at the terminal, if there is one.
type terminal struct{ a *app }

func (t terminal) isThere() bool { return term.IsTerminal(int(t.a.in.Fd())) }

func (t terminal) ask(prompt string) string {
	fmt.Fprint(t.a.err, prompt)
	var line []byte
	for b := make([]byte, 1); ; { // what comes behind the line is for who asks next
		if n, err := t.a.in.Read(b); n == 0 || err != nil || b[0] == '\n' {
			return strings.TrimSpace(string(line))
		}
		line = append(line, b[0])
	}
}

// HostKey shows a key that was never seen.
func (t terminal) HostKey(name, print string) (bool, error) {
	if !t.isThere() {
		return false, nil
	}
	return t.ask(fmt.Sprintf("%s is not known yet. Its key is\n  %s\nIs that the right one? Type yes to go on: ", name,
		print)) == "yes", nil
}

// Secret asks without showing what is typed.
func (t terminal) Secret(prompt string) (string, error) {
	if !t.isThere() {
		return "", errors.New("there is no terminal to ask for the " + prompt)
	}
	fmt.Fprintf(t.a.err, "%s: ", prompt)
	b, err := term.ReadPassword(int(t.a.in.Fd()))
	fmt.Fprintln(t.a.err)
	return string(b), err
}

// confirm has a name typed before something is destroyed.
func (a *app) confirm(name, given, why string) error {
	if given == "" && (terminal{a}).isThere() {
		given = terminal{a}.ask(fmt.Sprintf("%s: %s\nType its name to go on: ", name, why))
	}
	if given != name {
		return usageError{fmt.Errorf("%s: %s; nothing was done. To go on, say --confirm %s", name, why, name)}
	}
	return nil
}

func span(in string, otherwise time.Duration) (time.Duration, error) {
	if in == "" {
		return otherwise, nil
	}
	d, err := site.ParseSpan(in)
	if err != nil {
		return 0, usageError{err}
	}
	return d, nil
}
