package web

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
)

// PortHeader tells a site's code at which port visitors reach it.
const PortHeader = "Alibi-Port"

// Sealed is what a copy's code has of the machine and of the world outside, beyond its own folders.
type Sealed struct {
	ID     string // by which its account is made where we are root
	Bounds site.Bounds
	Names  []string // its own host names; names below them are its own too
	Port   string   // at which visitors reach it
	// Database is the server that it works with; nil: none.
	Database *Server
	Allowed  []site.Pass // what it may reach outside
	Terminal bool        // as of wall.World
	// Tell hears what it tried to reach; nil: nobody does.
	Tell func(wall.Call)
	// Met hears of its bounds that are met; nil: nobody does.
	Met func(wall.Met)
	// Awaited are its files that are still to come; nil: all are there.
	Awaited Awaited
	// Full says that it was stopped for what its folders hold, which is to be looked at first.
	Full bool
}

// Server is a database server as a copy's code reaches it.
type Server struct {
	Network, Addr string // as its configuration names it: "unix" and a path, or "tcp" and HOST:PORT
	Account       string // the only one for which it is let in
	Dial          func(ctx context.Context) (net.Conn, error)
}

// allows names the hosts that the site's code may reach, for its quiet rules.
func (s Spec) allows() string {
	if s.Sealed == nil {
		return ""
	}
	return strings.Join(site.Site{Passes: s.Sealed.Allowed}.AllowedHosts(), " ")
}

// owner is the account of the site's programs where that is another one than ours.
func (s Spec) owner() *host.Owner {
	if s.Sealed == nil {
		return nil
	}
	return wall.Account(s.Sealed.ID)
}

// give gives what the site's programs write, and what they read of ours, to their account.
func (s Spec) give() error {
	to := s.owner()
	if to == nil {
		return nil
	}
	for _, d := range append([]string{s.Run, s.Logs, s.Root, s.Mail}, s.Also...) {
		if d == "" {
			continue
		}
		if err := wall.Give(d, *to); err != nil {
			return err
		}
	}
	return nil
}

// world is what the site's PHP sees.
func (s Spec) world() wall.World {
	read := []string{}
	for _, p := range []string{s.PHP.FPM, s.PHP.CLI} {
		if p == "" {
			continue
		}
		read = append(read, wall.Prefix(p))
		if real, err := filepath.EvalSymlinks(p); err == nil {
			read = append(read, wall.Prefix(real))
		}
	}
	return wall.World{
		Run:    s.Run,
		Read:   read,
		Write:  s.writes(),
		Owner:  s.owner(),
		Bounds: s.Sealed.Bounds, Terminal: s.Sealed.Terminal,
	}
}

// world is what the site's PHP sees, with the socket of its database.
func (w *Web) world() (wall.World, error) {
	world := w.Spec.world()
	if db := w.Spec.Sealed.Database; db != nil && db.Network == "unix" {
		at, socket, err := w.databaseSocket()
		if err != nil {
			return world, err
		}
		world.As = map[string]string{at: socket}
	}
	return world, nil
}

// writes are the folders that the site's code may change.
func (s Spec) writes() []string {
	list := append([]string{s.Root, s.Run, s.Logs, s.Mail}, s.Also...)
	return slices.DeleteFunc(list, func(d string) bool {
		_, err := os.Stat(d)
		return d == "" || err != nil
	})
}

// ways are what leads out of the site's world.
func (w *Web) ways() *wall.Ways {
	s := w.Spec.Sealed
	ways := &wall.Ways{Own: s.Names, Allowed: s.Allowed, Tell: s.Tell, Serve: w.ownPages()}
	if p, err := strconv.Atoi(s.Port); err == nil {
		ways.Pages = []int{p}
	}
	if w.Spec.Mail != "" {
		ways.Mail = (&wall.Mailbox{Keep: w.keepMail}).Serve
	}
	if s.Database != nil && s.Database.Network == "tcp" {
		ways.Others = map[string]func(net.Conn){s.Database.Addr: w.database().Serve}
	}
	return ways
}

func (w *Web) database() *wall.Database {
	db := w.Spec.Sealed.Database
	return &wall.Database{Account: db.Account, Tell: w.Spec.Sealed.Tell, Dial: db.Dial}
}

// databaseSocket carries connections to the copy's database from a socket of the world's own.
func (w *Web) databaseSocket() (at, socket string, err error) {
	socket = filepath.Join(w.Spec.Run, "database.sock")
	_ = os.Remove(socket) // of an earlier run
	l, err := net.Listen("unix", socket)
	if err != nil {
		return "", "", err
	}
	w.closers = append(w.closers, l)
	if err := os.Chmod(socket, 0o666); err != nil { // its folder is closed
		return "", "", err
	}
	db := w.database()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				db.Serve(c)
			}()
		}
	}()
	return w.Spec.Sealed.Database.Addr, socket, nil
}

// ownPages serves the copy's own pages to its code, as sites ask for their own for scheduled tasks and checks.
func (w *Web) ownPages() func(net.Conn) {
	l := &handed{conns: make(chan net.Conn), done: make(chan struct{})}
	w.closers = append(w.closers, l)
	own := &wall.Ways{Own: w.Spec.Sealed.Names}
	proxy := &httputil.ReverseProxy{
		Transport: &http.Transport{
			DialContext:           func(ctx context.Context, _, _ string) (net.Conn, error) { return w.Dial(ctx) },
			DisableKeepAlives:     true,
			DisableCompression:    true,
			ResponseHeaderTimeout: 5 * time.Minute,
		},
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL.Scheme, pr.Out.URL.Host, pr.Out.Host = "http", "copy", pr.In.Host
			for name := range pr.Out.Header {
				if strings.HasPrefix(name, "Alibi-") {
					pr.Out.Header.Del(name)
				}
			}
			pr.Out.Header.Set(PortHeader, w.Spec.Sealed.Port)
		},
		ErrorHandler: func(rw http.ResponseWriter, _ *http.Request, _ error) { rw.WriteHeader(http.StatusBadGateway) },
	}
	srv := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(
		func(rw http.ResponseWriter, r *http.Request) {
			name, _, err := net.SplitHostPort(r.Host)
			if err != nil {
				name = r.Host
			}
			if !own.IsOwn(name) && name != "localhost" && name != "127.0.0.1" {
				http.Error(rw, "This copy reaches its own pages here, and no others.", http.StatusMisdirectedRequest)
				return
			}
			if a := w.Spec.Sealed.Awaited; a != nil && a.AwaitPage(r.Context(), r.URL.Path) != nil {
				rw.WriteHeader(http.StatusServiceUnavailable)
				return
			}
			proxy.ServeHTTP(rw, r)
		})}
	w.closers = append(w.closers, srv)
	go func() { _ = srv.Serve(l) }() // it ends when it is closed
	return l.take
}

// handed is a listener whose connections are handed to it.
type handed struct {
	conns chan net.Conn
	done  chan struct{}
}

// take serves a connection until it is closed.
func (l *handed) take(c net.Conn) {
	ended := make(chan struct{})
	select {
	case l.conns <- &told{Conn: c, ended: ended}:
		<-ended
	case <-l.done:
	}
}

func (l *handed) Accept() (net.Conn, error) {
	select {
	case c := <-l.conns:
		return c, nil
	case <-l.done:
		return nil, net.ErrClosed
	}
}

func (l *handed) Close() error {
	select {
	case <-l.done:
	default:
		close(l.done)
	}
	return nil
}

func (l *handed) Addr() net.Addr { return &net.TCPAddr{} }

// told is a connection that tells when it is closed.
type told struct {
	net.Conn
	ended chan struct{}
}

func (t *told) Close() error {
	select {
	case <-t.ended:
	default:
		close(t.ended)
	}
	return t.Conn.Close()
}

// keepMail writes a mail that the copy handed in to the folder of what was caught, in which its code may have
// put anything under any name.
func (w *Web) keepMail(message io.Reader) error {
	dir, err := os.OpenRoot(w.Spec.Mail)
	if err != nil {
		return err
	}
	defer dir.Close()
	name := "sendmail-" + strconv.FormatInt(time.Now().UnixNano(), 10) + "-smtp.eml"
	f, err := dir.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, message)
	return errors.Join(err, f.Close())
}
