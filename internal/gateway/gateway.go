// Package gateway is the web front of the copies on this machine: each answers
// at http://NAME.localhost:PORT/, behind a banner that says what it is. It
// listens on loopback and answers only to names that are copies.
package gateway

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/behind"
	"alibi/internal/runtime/pool"
	"alibi/internal/site"
	"alibi/internal/stack/wordpress/preview"
)

//go:embed pages.html
var pagesHTML string

var pages = template.Must(template.New("pages").Parse(pagesHTML))

// markColours are the marks' colours on the banner's dark ground.
var markColours = [site.MarkColours]string{
	"#f2b35d",
	"#7fd1c1",
	"#e58fb1",
	"#9cc3f5",
	"#c6d36a",
	"#f0907a",
	"#b9a5f0",
	"#8fd98b",
}

// Gateway serves copies.
type Gateway struct {
	// Sites lists the sites as they are now.
	Sites func(ctx context.Context) ([]site.Site, error)
	// Used notes that a key was used, and tells whether it was already.
	Used func(ctx context.Context, nonce string) (bool, error)
	// Run gives a running copy; nil where no copy's code is run.
	Run func(ctx context.Context, s site.Site) (Dialer, error)
	// Trying says that a copy's code tries for Alibi what it can reach, until done is called; nil: nobody wants to know.
	Trying func(id site.ID) (done func())
	// Behind is where files are asked for that are still to come to copies; nil: nowhere.
	Behind *behind.Desk
	Secret []byte // signs keys and sessions
	Port   string
	Now    func() time.Time
	Log    *slog.Logger

	let   sync.Map // digests of passwords that were right
	gates sync.Map // of each copy, by ID: see gate
}

// Listen opens the loopback port; "0" takes a free one.
func Listen(port string) (net.Listener, error) {
	ln, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return nil, fmt.Errorf(
			"opening the gateway's port %s: %w; another program has it, so set another one as gateway.port in the "+
				"configuration",
			port,
			err,
		)
	}
	return ln, nil
}

// ListenFrom opens the first port that is free from a number on, and tells which.
func ListenFrom(port int) (net.Listener, int, error) {
	var ln net.Listener
	var err error
	for p := port; p < port+100; p++ {
		if ln, err = Listen(strconv.Itoa(p)); err == nil {
			return ln, p, nil
		}
	}
	return nil, 0, err
}

// Serve answers until the context ends.
func (g *Gateway) Serve(ctx context.Context, ln net.Listener) error {
	srv := &http.Server{
		Handler:           g,
		ReadHeaderTimeout: 5 * time.Second,
		IdleTimeout:       time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
	stop := context.AfterFunc(ctx, func() { srv.Close() })
	defer stop()
	if six, err := net.Listen("tcp6", net.JoinHostPort("::1", g.Port)); err == nil { // where there is IPv6
		go func() { _ = srv.Serve(six) }() // ends with the server
	}
	if err := srv.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

type banner struct {
	Mark                          template.HTML
	Name, Of, Made, Purpose, Ends string
	Account, URL                  string
	Open                          string // why no wall keeps its code in
	Awaits                        string // what is still done to it
}

type notice struct {
	Heading string
	Lines   []string
	Sites   []banner
}

// name gives the copy's name in a Host header: NAME.localhost:PORT, or a
// sub-site's name before it. "" is the gateway itself.
func (g *Gateway) name(host string) (name string, ok bool) {
	h, port, err := net.SplitHostPort(host)
	if err != nil {
		h, port = host, "80"
	}
	if port != g.Port {
		return "", false
	}
	h = strings.ToLower(strings.TrimSuffix(h, "."))
	if h == "localhost" || h == "127.0.0.1" {
		return "", true
	}
	h, ok = strings.CutSuffix(h, ".localhost")
	return h[strings.LastIndexByte(h, '.')+1:], ok
}

// ServeHTTP answers for the copy that the Host header names.
func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Robots-Tag", "noindex, nofollow")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set(
		"Content-Security-Policy",
		"default-src 'self' data:; script-src 'none'; object-src 'none'; style-src 'self' 'unsafe-inline'; "+
			"form-action 'none'; frame-ancestors 'none'",
	)
	name, ok := g.name(r.Host)
	if !ok && g.pointed(w, r) {
		return
	}
	if !ok {
		g.notice(
			w,
			http.StatusMisdirectedRequest,
			notice{
				Heading: "Not served here",
				Lines:   []string{"This address does not belong to a copy on this machine."},
			},
		)
		return
	}
	sites, err := g.Sites(r.Context())
	if err != nil {
		g.Log.Error("gateway", "err", err)
		g.notice(w, http.StatusInternalServerError,
			notice{Heading: "The record can't be read", Lines: []string{"Look into Alibi's log for the reason."}})
		return
	}
	if name == "" {
		g.index(w, sites)
		return
	}
	for _, s := range sites {
		if s.Role == site.Copy && s.Name == name {
			g.copy(w, r, s, sites)
			return
		}
	}
	g.notice(
		w,
		http.StatusNotFound,
		notice{
			Heading: "No copy is called " + name,
			Lines: []string{
				"It may have expired and been removed, or the name is misspelt. These are the copies on this machine:",
			},
			Sites: g.banners(sites),
		},
	)
}

// pointed answers for a live name that leads to a copy on this machine.
func (g *Gateway) pointed(w http.ResponseWriter, r *http.Request) bool {
	sites, err := g.Sites(r.Context())
	if err != nil {
		return false
	}
	byID := map[site.ID]site.Site{}
	for _, s := range sites {
		byID[s.ID] = s
	}
	for _, s := range sites {
		if s.Pointed != nil && slices.Contains(s.Pointed.Names, hostOnly(r.Host)) {
			LiveOf(s, byID[s.Origin], g.Port, g.Log).ServeHTTP(w, r)
			return true
		}
	}
	return false
}

func (g *Gateway) index(w http.ResponseWriter, sites []site.Site) {
	g.notice(w, http.StatusOK, notice{Heading: "Copies on this machine", Sites: g.banners(sites)})
}

func (g *Gateway) banners(sites []site.Site) []banner {
	var out []banner
	for _, s := range sites {
		if s.Role == site.Copy {
			out = append(out, g.banner(s, sites, ""))
		}
	}
	return out
}

func (g *Gateway) banner(s site.Site, sites []site.Site, account string) banner {
	b := banner{
		Mark:    markSVG(s.Mark()),
		Name:    s.Name,
		Of:      "a site that is gone",
		Purpose: s.Purpose,
		URL:     s.Address().String() + "/",
		Account: account,
		Open:    s.Proof.Open(),

		Awaits: site.Either(s.Unproven(), s.Awaits(), ""),
	}
	if s.Origin == "" {
		b.Of = "nothing"
	}
	for _, o := range sites {
		if o.ID == s.Origin {
			b.Of = strings.ToUpper(string(o.Role)) + " " + o.Address().Short()
		}
	}
	now := g.Now()
	b.Made = site.Ago(now.Sub(s.CheckedAt))
	switch s.Lease.Phase(now) {
	case site.Held:
		b.Ends = "held: " + s.Lease.Reason
	case site.NoLease:
	case site.Over, site.Done:
		b.Ends = "its time is over"
	default:
		b.Ends = "ends in " + site.Span(s.Lease.Left(now))
	}
	return b
}

// markSVG draws the mark: four pixels by two.
func markSVG(m site.Mark) template.HTML {
	var b strings.Builder
	b.WriteString(`<svg width="24" height="12" viewBox="0 0 4 2" aria-hidden="true">`)
	for i := range 8 {
		if m.Bits&(0x80>>i) != 0 {
			fmt.Fprintf(&b, `<rect x="%d" y="%d" width="1" height="1" fill="%s"/>`, i%4, i/4, markColours[m.Colour])
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String()) //nolint:gosec // made of numbers
}

// CopyHeader tells programs which copy an answer is from.
const CopyHeader = "Alibi-Copy"

// copy answers for one copy, by its state.
func (g *Gateway) copy(w http.ResponseWriter, r *http.Request, s site.Site, sites []site.Site) {
	w.Header().Set(CopyHeader, s.Name)
	b := g.banner(s, sites, g.session(r, s))
	_, probing := check(g.Secret, r.Header.Get(probeHeader), "probe", s.ID, g.Now())
	if probing && (s.State == site.Making || s.State == site.Failed || s.State == site.Parked) {
		s.State = site.Ready
	}
	if !probing && !g.inFront(w, r, s) || !g.onAir(w, s, b) {
		return
	}
	if !g.here(w, r, s) {
		return
	}
	runs := g.Run != nil && pool.Runs(s)
	switch {
	case r.URL.Path == "/robots.txt":
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		fmt.Fprint(w, "User-agent: *\nDisallow: /\n")
	case runs:
		g.proxied(w, r, s, b, probing)
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		w.Header().Set("Allow", "GET, HEAD")
		g.notice(
			w,
			http.StatusMethodNotAllowed,
			notice{
				Heading: "Read only",
				Lines:   []string{"The preview shows a copy's pages; nothing can be sent to it."},
			},
		)
	case strings.HasPrefix(r.URL.Path, "/-/key/"):
		g.enter(w, r, s)
	case r.URL.Path == "/-/leave":
		g.leave(w, r)
	case preview.Inner(r.URL.Path):
		g.notice(w, http.StatusNotImplemented, notice{Heading: "No back end in the preview", Lines: []string{
			"This copy's PHP does not run here. What only an account sees can be looked at from inside: alibi open " +
				s.Name + " --inside",
			"The copy's accounts are " + s.AccountsText() + "."}})
	default:
		g.content(w, r, s, b)
	}
}

// onAir answers for a copy that is off the air, and tells whether it is on.
func (g *Gateway) onAir(w http.ResponseWriter, s site.Site, b banner) bool {
	switch s.State {
	case site.Ready:
		return true
	case site.Expired:
		g.notice(w, http.StatusGone, notice{Heading: s.Name + " has expired", Lines: []string{
			"This copy of " + b.Of + " is off the air. It will be removed for good " +
				s.Lease.Noticed.Add(s.Lease.Grace).Format("2 January 15:04") + ".",
			"Until then it can be brought back: alibi bring-back " + s.Name}})
	case site.Parked:
		g.notice(
			w,
			http.StatusServiceUnavailable,
			notice{
				Heading: s.Name + " is parked",
				Lines:   []string{"This copy of " + b.Of + " was taken off the air by its keeper."},
			},
		)
	case site.Making:
		w.Header().Set("Retry-After", "2")
		g.notice(w, http.StatusServiceUnavailable,
			notice{Heading: s.Name + " is being made", Lines: []string{
				"It answers here as soon as its files and tables are there."}})
	default:
		g.notice(
			w,
			http.StatusServiceUnavailable,
			notice{
				Heading: s.Name + " is not whole",
				Lines:   []string{"A run on it did not end, or is taking it away: alibi runs says which, and what can be done."},
			},
		)
	}
	return false
}

// here waits until a file that is asked for is there, where the copy's files are still coming, and tells whether it is.
func (g *Gateway) here(w http.ResponseWriter, r *http.Request, s site.Site) bool {
	if !s.Behind || g.Behind == nil {
		return true
	}
	err := behind.Of{Desk: g.Behind, ID: s.ID}.AwaitPage(r.Context(), r.URL.Path)
	if err == nil {
		return true
	}
	g.Log.Warn("a file that is still to come", "site", s.Name, "path", r.URL.Path, "err", err)
	w.Header().Set("Retry-After", "10")
	g.notice(w, http.StatusServiceUnavailable, notice{Heading: "This file is still to come", Lines: []string{
		"The files of " + s.Name + " are still coming from its origin, and this one could not be brought at once.",
		"How far it is, and what is in the way: alibi runs"}})
	return false
}

// content serves a file of the copy, or a page drawn from its tables.
func (g *Gateway) content(w http.ResponseWriter, r *http.Request, s site.Site, b banner) {
	name := r.URL.Path
	if s.Stack == "plain" || path.Ext(name) != "" {
		if f, fi, err := preview.File(s, name); err == nil {
			defer f.Close()
			ext := strings.ToLower(path.Ext(fi.Name()))
			if ext == ".html" || ext == ".htm" {
				g.htmlFile(w, f, b)
				return
			}
			if t := mime.TypeByExtension(ext); t != "" {
				w.Header().Set("Content-Type", t)
			}
			http.ServeContent(w, r, fi.Name(), fi.ModTime(), f)
			return
		}
	}
	if s.Stack != "wordpress" {
		g.missing(w, s)
		return
	}
	p, err := preview.Find(r.Context(), s, r.Host, r.URL, preview.Viewer{Account: b.Account})
	if errors.Is(err, preview.ErrNotFound) {
		g.missing(w, s)
		return
	}
	if err != nil {
		g.Log.Error("preview", "site", s.Name, "path", name, "err", err)
		g.notice(
			w,
			http.StatusInternalServerError,
			notice{
				Heading: "The page can't be drawn",
				Lines:   []string{"The copy's tables can't be read: " + err.Error()},
			},
		)
		return
	}
	heading := p.Site
	if p.Title != "" {
		heading = p.Title + " - " + p.Site
	}
	g.render(w, p.Status, "page", struct {
		Heading string
		Page    *preview.Page
		Banner  banner
	}{heading, p, b})
}

func (g *Gateway) missing(w http.ResponseWriter, s site.Site) {
	g.notice(w, http.StatusNotFound, notice{Heading: "No such page",
		Lines: []string{"The copy " + s.Name + " has nothing at this address."}})
}

func (g *Gateway) notice(w http.ResponseWriter, status int, n notice) {
	g.render(w, status, "notice", n)
}

func (g *Gateway) render(w http.ResponseWriter, status int, what string, data any) {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, what, data); err != nil {
		g.Log.Error("gateway", "err", err)
		http.Error(w, "the page can't be drawn", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}
