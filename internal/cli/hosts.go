package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/site"
)

// hostNames completes names of hosts.
func (a *app) hostNames(_ *cobra.Command, given []string, _ string) ([]string, cobra.ShellCompDirective) {
	d, err := a.desk(context.Background())
	if err != nil || len(given) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer d.Close()
	list, err := d.Fleet.Hosts(context.Background())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, h := range list {
		out = append(out, h.Name)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) hostShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show NAME",
		Short: "What is known of a machine",
		Long: "What the record has of a machine: how it is reached, which sites stand on it, where copies may be made " +
			"there, how much of it may be used. It is not asked: see alibi host test.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.hostNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			s, err := d.Fleet.KnownHost(ctx, given[0])
			if err != nil {
				return err
			}
			return a.print(s, func(w io.Writer) { printHost(w, s) })
		}),
	}
}

func (a *app) hostTest() *cobra.Command {
	return &cobra.Command{
		Use:   "test NAME",
		Short: "Ask a machine what it answers, and what may be done there",
		Long: "Sign in on a machine and see what it can do: commands, connections to databases there, PHP, free room, " +
			"and how long an answer takes. Nothing is written but an empty file in the folder for copies, which is " +
			"removed at once. The exit code is 1 if it does not answer.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.hostNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			s, err := d.Fleet.HostState(ctx, given[0])
			if err != nil {
				return err
			}
			err = a.print(s, func(w io.Writer) {
				printHost(w, s)
				printHostState(w, s)
			})
			if err == nil && s.Failure != "" {
				return errors.New(s.Failure)
			}
			return err
		}),
	}
}

func (a *app) hostRemove() *cobra.Command {
	return &cobra.Command{
		Use:   "remove NAME",
		Short: "Take a machine out of the record",
		Long: "Take a machine out of the record. Nothing there is touched. It is refused while sites of the record stand " +
			"on it, or something that Alibi made there is left over.",
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.hostNames,
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if err := d.Fleet.RemoveHost(ctx, given[0]); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": given[0]}, func(w io.Writer) {
				fmt.Fprintf(w, "host %s is not in the record any more; nothing there was touched\n", given[0])
			})
		}),
	}
}

func printHost(w io.Writer, s desk.HostState) {
	table(w, func(row func(...string)) {
		row("host", s.Name)
		where := s.Where()
		if s.Local() {
			where = "this machine"
		}
		row("reached at", where)
		if s.At != "" {
			row("machine", s.At+", wherever its name leads")
		}
		if s.Client != "" {
			row("client", s.Client)
		}
		row("sites", site.Either(len(s.Sites) > 0, strings.Join(s.Sites, ", "), "none"))
		if s.Copies != "" {
			row("copies", s.Copies+", databases on "+site.Either(s.Server.Address != "", s.Server.Address, "no server"))
		}
		if s.Pin != "" {
			row("its key", s.Pin+" was accepted")
		}
	})
}

func printHostState(w io.Writer, s desk.HostState) {
	if s.Failure != "" {
		return
	}
	yes := func(b bool) string { return site.Either(b, "yes", "no") }
	fmt.Fprintln(w)
	table(w, func(row func(...string)) {
		row("answers", "yes, after "+s.SignIn.Round(time.Millisecond).String()+"; then "+
			site.Either(s.Answer < time.Millisecond, "less than 1ms", s.Answer.Round(time.Millisecond).String())+" an answer")
		row("commands", yes(s.Commands))
		row("databases", site.Either(s.Forwards, "reached from there", "not reached from there"))
		row("PHP", site.Either(s.PHP != "", s.PHP, "none for commands"))
		row("free", site.Either(s.Free > 0, site.Size(s.Free), "not known"))
	})
	for _, x := range s.About {
		fmt.Fprintln(w, "- "+x)
	}
}
