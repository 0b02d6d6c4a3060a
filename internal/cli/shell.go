package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"os/signal"
	"slices"
	"strings"

	"github.com/creack/pty"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"alibi/internal/desk"
	"alibi/internal/site"
)

func (a *app) shell() *cobra.Command {
	var outside bool
	c := &cobra.Command{
		Use:   "shell COPY [-- COMMAND...]",
		Short: "Open a shell in a copy's folder",
		Long: `Open a shell where a copy is, or run a command there. It is behind the copy's wall: it sees the copy's
folders, reaches the copy's database and, on this machine, its pages, and nothing else, so that the copy's code
can be run in it by hand; with --outside it is your own shell. On another host it is opened by SSH. ALIBI_URL,
ALIBI_ROOT and ALIBI_DATABASE say what is what. With --json it prints how your own shell is opened.`,
		Example:           "  alibi shell winter\n  alibi shell winter -- php check.php",
		Args:              args(cobra.MinimumNArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
			if d.Hands.Walled(s) && !outside && !a.json {
				return a.shellInside(ctx, d, s, rest)
			}
			return a.shellByCommand(ctx, d, s, outside || a.json, rest)
		}),
	}
	c.Flags().BoolVar(&outside, "outside", false, "not behind the copy's wall")
	return c
}

// shellByCommand opens a shell by a command: a person's own where a copy is, or, on another host, one behind its wall.
func (a *app) shellByCommand(ctx context.Context, d *desk.Desk, s site.Site, outside bool, rest []string) error {
	x, err := d.Hands.ShellOf(ctx, s.ID, outside, rest...)
	if err != nil {
		return err
	}
	if a.json {
		return a.print(x, nil)
	}
	if len(rest) > 0 && x.Command[0] == "sh" {
		x.Command = rest
	}
	if x.Open != "" {
		fmt.Fprintln(os.Stderr, "not behind the copy's wall:", x.Open)
	}
	cmd := exec.CommandContext(ctx, x.Command[0], x.Command[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.in, os.Stdout, os.Stderr
	cmd.Env = os.Environ()
	for _, k := range slices.Sorted(maps.Keys(x.Env)) {
		cmd.Env = append(cmd.Env, k+"="+x.Env[k])
	}
	if x.Command[0] != "ssh" {
		cmd.Dir = x.Dir
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", strings.Join(x.Command[:1], " "), err)
	}
	return nil
}

// shellInside opens a shell behind a copy's wall, or runs a command there.
func (a *app) shellInside(ctx context.Context, d *desk.Desk, s site.Site, rest []string) error {
	in, err := d.Hands.InsideOf(ctx, s.ID, rest...)
	if err != nil {
		return err
	}
	defer in.Close()
	if len(rest) > 0 {
		in.Cmd.Stdin, in.Cmd.Stdout, in.Cmd.Stderr = a.in, a.out, os.Stderr
		err = in.Cmd.Start()
		if berr := in.Begin(); err == nil {
			err = berr
		}
		if err == nil {
			err = in.Cmd.Wait()
		}
	} else {
		err = inTerminal(in.Cmd, in.Begin)
	}
	if err != nil {
		return fmt.Errorf("the shell behind the wall of %s: %w", s.Name, err)
	}
	return nil
}

// inTerminal runs a program with a terminal of its own, which is shown in ours.
func inTerminal(cmd *exec.Cmd, begin func() error) error {
	t, err := pty.Start(cmd)
	if berr := begin(); err == nil {
		err = berr
	}
	if err != nil {
		return err
	}
	defer t.Close()
	sizes := make(chan os.Signal, 1)
	signal.Notify(sizes, unix.SIGWINCH)
	defer signal.Stop(sizes)
	go func() {
		for range sizes {
			_ = pty.InheritSize(os.Stdin, t) // the next change of the size comes by itself
		}
	}()
	sizes <- unix.SIGWINCH
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		was, err := term.MakeRaw(fd)
		if err != nil {
			return err
		}
		defer term.Restore(fd, was) //nolint:errcheck // it is the end
	}
	go func() { _, _ = io.Copy(t, os.Stdin) }() // it ends with the program
	_, _ = io.Copy(os.Stdout, t)                // a terminal whose program has ended gives an error
	var ended *exec.ExitError
	if err := cmd.Wait(); err != nil && !errors.As(err, &ended) {
		return err
	}
	return nil
}
