package cli

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"alibi/internal/demo"
	"alibi/internal/demo/real"
	"alibi/internal/desk"
	"alibi/internal/gateway"
	"alibi/internal/keeper"
)

func (a *app) demo() *cobra.Command {
	var headless, onReal bool
	var spoil string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start with a made-up company's sites and hosts",
		Long: "Make a demo world (a ferry company that does not exist, its sites, and two hosts inside this " +
			"process) and open the full-screen interface on it. It needs no network and no rights. With --real the " +
			"hosts are OpenSSH servers and the sites are WordPress on PHP, in MariaDB, behind nginx; script/real " +
			"installs these. With --headless it does the whole way by itself and prints each stage's figures.",
		Args: args(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			home, err := a.demoHome()
			if err != nil {
				return err
			}
			if keeper.Taken(home) {
				return fmt.Errorf("a demo is running in %s already; close it first, or name another folder with --home",
					home)
			}
			front, port, err := gateway.ListenFrom(7700)
			if err != nil {
				return err
			}
			defer front.Close()
			if onReal {
				return a.real(ctx, home, port, front)
			}
			w, err := demo.Start(ctx, home, port, false)
			if err != nil {
				return err
			}
			defer w.Close()
			a.now = w.Now
			d, err := a.demoDesk(ctx, home, front)
			if err != nil {
				return err
			}
			defer d.Close()
			if headless {
				return a.headless(ctx, w, d, spoil)
			}
			if !term.IsTerminal(int(os.Stdout.Fd())) {
				return usageError{fmt.Errorf("the demo's screens need a terminal; without one: alibi demo --headless")}
			}
			return w.Show(ctx, d, a.screens)
		},
	}
	c.Flags().BoolVar(&onReal, "real", false, "with real hosts and real WordPress sites")
	c.Flags().BoolVar(&headless, "headless", false, "do the whole way without screens and print each stage's figures")
	c.Flags().StringVar(&spoil, "spoil", "", "with --headless: damage the copy before the evidence, to see it found ("+
		demo.SpoilKinds()+")")
	return c
}

// demoHome is the folder of the demo's world.
func (a *app) demoHome() (string, error) {
	home := a.home
	if home == "" {
		base, err := desk.DefaultHome()
		if err != nil {
			return "", err
		}
		home = base + "-demo"
	}
	return filepath.Abs(home)
}

// demoDesk opens the desk of a demo's folder behind a port that was taken before.
func (a *app) demoDesk(ctx context.Context, home string, front net.Listener) (*desk.Desk, error) {
	a.home = home
	d, err := a.desk(ctx)
	if err != nil {
		return nil, err
	}
	d.UsePort(front)
	return d, nil
}

// real opens the screens on the world of real programs.
func (a *app) real(ctx context.Context, home string, port int, front net.Listener) error {
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		return usageError{fmt.Errorf("the demo's screens need a terminal")}
	}
	if err := demo.Wipe(home); err != nil {
		return err
	}
	w, err := real.Start(ctx, home, port, func(text string) { fmt.Fprintln(a.out, text) })
	if err != nil {
		return err
	}
	defer w.Close()
	d, err := a.demoDesk(ctx, home, front)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := w.Settle(ctx, d); err != nil {
		return err
	}
	return demo.Kept(ctx, d, func() error { return a.screens(ctx, d, true) })
}
