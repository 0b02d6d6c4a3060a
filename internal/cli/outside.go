package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/gateway"
	"alibi/internal/runtime/outbox"
	"alibi/internal/site"
)

func (a *app) caught() *cobra.Command {
	var eml bool
	c := &cobra.Command{
		Use:   "caught COPY [NUMBER]",
		Short: "Show what a copy wanted to send or reach outside",
		Long: `List the mails that a copy's code wanted to send, the calls that its quiet rules caught, what its wall
refused or let through, and the bounds that it met, the newest first, or one of them in full. Where PHP tells
who asked, the file and line of the plugin or theme stand with it. With --eml a mail is written as it is
(RFC 5322). What was refused can be let through with: alibi allow COPY HOST:PORT.`,
		Example:           "  alibi caught winter\n  alibi caught winter 3 --eml >mail.eml",
		Args:              args(cobra.RangeArgs(1, 2)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, given []string) error {
			list, err := d.Copies.Caught(ctx, s.ID)
			if err != nil {
				return err
			}
			if len(given) > 0 {
				n, err := strconv.Atoi(given[0])
				if err != nil || n < 1 || n > len(list) {
					return usageError{fmt.Errorf("%q is none of the %d that were caught", given[0], len(list))}
				}
				if eml {
					text, err := d.Copies.CaughtMail(ctx, s.ID, list[n-1])
					if err == nil {
						_, err = a.out.Write(text)
					}
					return err
				}
				return a.print(list[n-1], func(w io.Writer) { printCaught(w, list[n-1]) })
			}
			if eml {
				return usageError{errors.New("say which one: its number in the list")}
			}
			return a.print(list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "nothing was caught: the copy sent nothing")
					return
				}
				table(w, func(row func(...string)) {
					row("NO", "WHEN", "WHAT", "TO", "SUBJECT")
					for i, it := range list {
						row(strconv.Itoa(i+1), it.At.Local().Format("2 Jan 15:04:05"), it.Kind, it.To, it.About())
					}
				})
			})
		}),
	}
	c.Flags().BoolVar(&eml, "eml", false, "write the mail as it is, as a file that mail programs read")
	return c
}

func printCaught(w io.Writer, it outbox.Item) {
	fmt.Fprintf(w, "%s at %s\nto %s\n", it.Kind, it.At.Local().Format(time.RFC1123), it.To)
	if about := it.About(); about != "" {
		fmt.Fprintf(w, "subject %s\n", about)
	}
	if it.Text != "" {
		fmt.Fprintf(w, "\n%s\n", strings.TrimRight(it.Text, "\r\n"))
	}
}

func (a *app) override() *cobra.Command {
	var off bool
	c := &cobra.Command{
		Use:   "override COPY",
		Short: "Have the live site's names lead to a copy, on this machine only",
		Long: `Write lines into this machine's hosts file, so that the names of the live site lead to the copy here, for
both IPv4 and IPv6. Only lines that Alibi wrote are ever touched. It stands on the board for as long as it
lasts; --off ends it and proves that it is ended. It ends with the copy, too.`,
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, _ []string) error {
			do, word := d.Copies.PointHere, "leads to "
			if off {
				do, word = d.Copies.PointBack, "leads, as seen from here, to "
			}
			list, err := do(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.print(list, func(w io.Writer) {
				for _, l := range list {
					to := strings.Join(l.To, " and ")
					if to == "" {
						to = "nothing that this machine knows"
					}
					fmt.Fprintf(w, "%s %s%s", l.Name, word, to)
					if l.Answers != "" {
						fmt.Fprintf(w, "; http://%s/ answers %s", net.JoinHostPort(l.Name, d.Port()), l.Answers)
					}
					fmt.Fprintln(w)
				}
				if off {
					fmt.Fprintf(w, "no name leads to %s any more\n", s.Name)
				} else {
					fmt.Fprintf(w, "end it with: alibi override %s --off\n", s.Name)
				}
			})
		}),
	}
	c.Flags().BoolVar(&off, "off", false, "end it")
	return c
}

func (a *app) proxy() *cobra.Command {
	port := 0
	c := &cobra.Command{
		Use:   "proxy COPY|MOVE",
		Short: "Show a copy, or the new place of a site, under its live address to a browser that uses a proxy",
		Long: `Be an HTTP proxy on this machine, until interrupted: a browser that uses it sees the copy under the live
site's names, by HTTP and by HTTPS (with a certificate that it warns of). With the name of a move it sees
the site at its other place, with the certificate that the web server there has. Nothing else is let
through, and nothing is written anywhere.`,
		Args:              args(cobra.ExactArgs(1)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.with(func(ctx context.Context, d *desk.Desk, given []string) error {
			if m, err := d.Moves.Find(ctx, given[0]); err == nil {
				ahead, err := d.Moves.Ahead(ctx, m)
				if err != nil {
					return err
				}
				return a.serveProxy(ctx, port, ahead, "the site at "+m.There().String(), ahead.Names)
			}
			s, err := d.Fleet.Find(ctx, given[0])
			if err != nil {
				return err
			}
			live, _, err := d.Copies.Live(ctx, s.ID)
			if err != nil {
				return err
			}
			return a.kept(ctx, d, func() error {
				return a.serveProxy(ctx, port, &gateway.Proxy{Live: live}, s.Name, live.Hosts())
			})
		}),
	}
	c.Flags().IntVar(&port, "port", 0, "port of the proxy (default: a free one)")
	return c
}

// serveProxy is a proxy for a browser until it is interrupted.
func (a *app) serveProxy(ctx context.Context, port int, h http.Handler, what string, names []string) error {
	ln, err := gateway.Listen(strconv.Itoa(port))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "a browser whose proxy is %s sees %s at %s; Ctrl+C ends it\n", ln.Addr(), what,
		strings.Join(names, ", "))
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { srv.Close() })
	defer stop()
	if err := srv.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
