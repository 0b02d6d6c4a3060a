package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
)

func (a *app) secrets() *cobra.Command {
	c := &cobra.Command{Use: "secrets", Short: "Passwords and keys that are kept by name",
		Long: "Secrets that are kept by name, in a file that is encrypted with age for a key of yours ([secrets] in " +
			"config.toml), or in the system's keyring. Wherever a file with a password is named, secret:NAME names one."}
	list := &cobra.Command{Use: "list", Short: "List their names", Args: args(cobra.NoArgs),
		RunE: a.with(func(_ context.Context, d *desk.Desk, _ []string) error {
			names, err := d.Fleet.Secrets().Names()
			if err != nil {
				return err
			}
			return a.print(append([]string{}, names...), func(w io.Writer) {
				for _, n := range names {
					fmt.Fprintln(w, n)
				}
			})
		})}
	remove := &cobra.Command{Use: "remove NAME", Short: "Forget one", Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, given []string) error {
			if err := d.Fleet.Secrets().Remove(given[0]); err != nil {
				return err
			}
			return a.print(map[string]string{"removed": given[0]}, func(w io.Writer) {
				fmt.Fprintf(w, "%s is not kept any more\n", given[0])
			})
		})}
	c.AddCommand(a.secretPut(), list, remove)
	return c
}

func (a *app) secretPut() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "put NAME", Short: "Keep one, in place of one of the same name",
		Long: "Keep a secret under NAME. It is typed unseen, or read from standard input or a file; never from the " +
			"command line, where others would see it.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(_ context.Context, d *desk.Desk, given []string) error {
			secret, err := a.typedSecret(file)
			if err != nil {
				return err
			}
			if err := d.Fleet.Secrets().Put(given[0], secret); err != nil {
				return err
			}
			return a.print(map[string]string{"kept": given[0]}, func(w io.Writer) {
				fmt.Fprintf(w, "kept; name it as secret:%s where a file with a password is named\n", given[0])
			})
		})}
	c.Flags().StringVar(&file, "file", "", "read it from this file")
	return c
}

// typedSecret reads a secret from a file, from who types it, or from standard input.
func (a *app) typedSecret(file string) (string, error) {
	if file == "" && (terminal{a}).isThere() {
		return terminal{a}.Secret("secret")
	}
	return readPassword(cmp.Or(file, "-"))
}
