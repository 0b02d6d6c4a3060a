package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
)

func (a *app) notices() *cobra.Command {
	c := &cobra.Command{Use: "notices", Short: "Who is told of moves and long runs",
		Long: "Mail addresses and a command that are told how each gate of a move ended, and of runs that take long: see " +
			"[notices] in config.toml."}
	c.AddCommand(&cobra.Command{
		Use:   "try",
		Short: "Tell them now, to see that it works",
		Long:  "Send a notice to all addresses, and run the command with one. The exit code is 1 if any of it fails.",
		Args:  args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			s, err := d.Runs.TryNotice(ctx)
			if err != nil {
				return err
			}
			told := s.To
			if len(s.Command) > 0 {
				told = append(told, s.Command[0])
			}
			return a.print(map[string][]string{"told": told}, func(w io.Writer) {
				fmt.Fprintf(w, "told: %s\n", strings.Join(told, ", "))
			})
		}),
	})
	return c
}
