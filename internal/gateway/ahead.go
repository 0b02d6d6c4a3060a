package gateway

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strings"
	"sync"
)

// Ahead is an HTTP proxy for a browser on this machine: the names of a site lead to the web server of its other place,
// as they will for everybody once it is switched over, and no others lead anywhere. What is secret between the browser
// and that server stays so: HTTPS passes as it is, with that server's own certificate.
type Ahead struct {
	Names []string
	// Dial connects to a port of that web server.
	Dial func(ctx context.Context, port string) (net.Conn, error)
	Log  *slog.Logger
}

// ServeHTTP takes a browser's request to a proxy.
func (p *Ahead) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case !slices.Contains(p.Names, hostOnly(r.Host)):
		onlyLeads(w, p.Names)
	case r.Method == http.MethodConnect:
		p.connect(w, r)
	default:
		p.pass(w, r)
	}
}

// onlyLeads says for what a proxy is there.
func onlyLeads(w http.ResponseWriter, names []string) {
	http.Error(w, "this proxy leads to "+strings.Join(names, ", ")+
		" only; take it out of the browser's settings for other sites", http.StatusForbidden)
}

func portOf(host, usual string) string {
	if _, port, err := net.SplitHostPort(host); err == nil {
		return port
	}
	return usual
}

// pass hands a request on that is not secret.
func (p *Ahead) pass(w http.ResponseWriter, r *http.Request) {
	port := portOf(r.Host, "80")
	proxy := &httputil.ReverseProxy{
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return p.Dial(ctx, port)
		}, DisableKeepAlives: true, DisableCompression: true},
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL.Scheme, pr.Out.URL.Host, pr.Out.Host = "http", r.Host, r.Host
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			http.Error(w, "the web server there does not answer: "+err.Error(), http.StatusBadGateway)
		},
		ErrorLog: slog.NewLogLogger(p.Log.Handler(), slog.LevelDebug),
	}
	proxy.ServeHTTP(w, r)
}

// connect joins the browser to the web server.
func (p *Ahead) connect(w http.ResponseWriter, r *http.Request) {
	there, err := p.Dial(r.Context(), portOf(r.Host, "443"))
	if err != nil {
		http.Error(w, "the web server there does not answer: "+err.Error(), http.StatusBadGateway)
		return
	}
	defer there.Close()
	c, read, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer c.Close()
	if _, err := io.WriteString(c, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		return
	}
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(there, read.Reader) // who breaks off ends it
		there.Close()
	})
	both.Go(func() {
		_, _ = io.Copy(c, there)
		c.Close()
	})
	both.Wait()
}
