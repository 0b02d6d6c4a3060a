package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/site"
)

func (a *app) host() *cobra.Command {
	c := &cobra.Command{Use: "host", Short: "Machines where sites live"}
	var h inventory.Host
	var plainly bool
	add := &cobra.Command{
		Use:   "add NAME ADDRESS",
		Short: "Add a machine that is reached by SSH, FTP with TLS, or a site's own pages",
		Long: "Add a machine under NAME. ADDRESS is a name in ~/.ssh/config, or [USER@]HOST[:PORT]. Your agent, " +
			"keys, configuration and known hosts are used; a key that is not known is shown and asked for, or " +
			"accepted by --fingerprint.\n\nftps://USER@HOST[:PORT] is a host that is reached by FTP with TLS: files and " +
			"nothing else. ftp:// is one without TLS, where everybody on the way can read the password and what is " +
			"brought; that needs --plain.\n\nhttps://USER@SITE is a host of which only a site is known, and the account of an " +
			"administrator there: Alibi signs in by the site's own form, uploads a plugin of one file, which is not " +
			"activated, reaches files and database through it, and removes it when it is done.",
		Args: args(cobra.ExactArgs(2)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			h.Name, h.Addr = given[0], given[1]
			if w, plain := inventory.PlainWay(h.Addr); plain && !plainly {
				return usageError{fmt.Errorf("by %s:// everybody on the way can read the password, and what is brought: "+
					"use %ss:// if the host has it, or say --plain", w, w)}
			}
			if err := d.Fleet.AddHost(ctx, h); err != nil {
				return err
			}
			return a.print(h, func(w io.Writer) {
				fmt.Fprintf(w, "host %s answers; add a site on it: alibi add %s:%s\n", h.Name, h.Name,
					site.Either(strings.HasPrefix(h.Addr, "http"), "", "/path"))
			})
		}),
	}
	add.Flags().StringVar(&h.Key, "key", "", "private key file")
	add.Flags().StringVar(&h.PasswordFile, "password-file", "",
		"file on this machine with the account's password, or secret:NAME")
	add.Flags().StringVar(&h.Pin, "fingerprint", "", "accept this key of the host, as its keeper names it: SHA256:...")
	add.Flags().StringVar(&h.At, "at", "", "the machine, where the host's name leads elsewhere: 192.0.2.7")
	add.Flags().BoolVar(&plainly, "plain", false, "by ftp:// or http://: nothing is encrypted, the password neither")
	add.Flags().StringVar(&h.Client, "client", "", "whose it is")
	list := &cobra.Command{Use: "list", Short: "List machines", Args: args(cobra.NoArgs),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
			hosts, err := d.Fleet.Hosts(ctx)
			if err != nil {
				return err
			}
			return a.print(hosts, func(w io.Writer) {
				table(w, func(row func(...string)) {
					for _, h := range hosts {
						where := h.Where()
						if h.Local() {
							where = "this machine"
						}
						row(h.Name, where, h.Client)
					}
				})
			})
		})}
	c.AddCommand(add, a.hostSet(), list, a.hostShow(), a.hostTest(), a.hostRemove())
	return c
}

func (a *app) hostSet() *cobra.Command {
	var to desk.HostSettings
	var bandwidth string
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Say where copies may be made on a machine, and how much of it may be used",
		Long: "Say in which folder of a machine copies may be made, and on which database server they get their " +
			"databases there. The account must be allowed to make databases and accounts; its password stays in the " +
			"file that you name. For this machine the same is set in config.toml.",
		Args: args(cobra.ExactArgs(1)),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if bandwidth != "" {
				var err error
				if to.Limits.Bandwidth, err = site.ParseSize(bandwidth); err != nil {
					return usageError{err}
				}
			}
			h, err := d.Fleet.SetHost(ctx, given[0], to)
			if err != nil {
				return err
			}
			return a.print(h, func(w io.Writer) {
				or := func(s, none string) string {
					if s == "" {
						return none
					}
					return s
				}
				fmt.Fprintf(w, "copies on %s: in %s, databases on %s\n", h.Name, or(h.Copies, "no folder"),
					or(h.Server.Address, "no server"))
				if h.Open != "" {
					fmt.Fprintf(w, "no wall keeps the code of copies in there: %s; install bubblewrap there, and "+
						"run alibi host set %s again\n", h.Open, h.Name)
				}
			})
		}),
	}
	c.Flags().StringVar(&bandwidth, "bandwidth", "", "at most so many bytes a second, each way: 500K, 10M")
	c.Flags().IntVar(&to.Limits.Streams, "streams", 0, "at most so many files or streams at once")
	c.Flags().Float64Var(&to.Limits.Load, "load", 0, "wait while the machine's load of the last minute is above this")
	c.Flags().StringVar(
		&to.Limits.Compress,
		"compress",
		"",
		"compress what goes there and comes from there: far (where the host is far away or its bandwidth bounded; "+
			"usual), always, never",
	)
	c.Flags().StringVar(&to.At, "at", "", "the machine, where the host's name leads elsewhere: 192.0.2.7; "+
		desk.ByName+": as the name leads")
	c.Flags().StringVar(&to.Copies, "copies", "", "folder for copies, an absolute path on the machine")
	c.Flags().StringVar(&to.Server.Address, "database", "",
		"database server as seen from the machine: localhost, localhost:/run/mysqld/mysqld.sock, 127.0.0.1:3306")
	c.Flags().StringVar(&to.Server.User, "database-user", "", "account that may make databases and accounts")
	c.Flags().StringVar(&to.Server.PasswordFile, "database-password-file", "", "file on this machine with its password")
	return c
}
