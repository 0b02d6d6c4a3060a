package gateway

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"mime"
	"net"
	"net/http"
	"net/http/httputil"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/op"
	"alibi/internal/rewrite"
	"alibi/internal/site"
)

// Live shows a copy under the live site's addresses: requests for these are
// handed to the copy, and its own address in what it answers becomes the live
// one again.
type Live struct {
	Gateway string         // where the copies answer, host:port
	Pairs   []rewrite.Pair // from the live addresses to the copy's
	Log     *slog.Logger
}

// LiveOf shows a copy under its origin's addresses.
func LiveOf(s, origin site.Site, port string, log *slog.Logger) *Live {
	l := &Live{Gateway: net.JoinHostPort("127.0.0.1", port), Log: log}
	addresses := origin.Addresses
	if origin.Facts != nil {
		addresses = origin.Facts.Addresses
	}
	for _, p := range op.Pairs(addresses, s.Address()) {
		if net.ParseIP(p.From.Host) == nil && p.From.Host != "localhost" &&
			!strings.HasSuffix(p.From.Host, ".localhost") {
			l.Pairs = append(l.Pairs, p)
		}
	}
	return l
}

// Hosts are the names that it answers to.
func (l *Live) Hosts() (out []string) {
	for _, p := range l.Pairs {
		if !slices.Contains(out, p.From.Host) {
			out = append(out, p.From.Host)
		}
	}
	return out
}

// find gives the pair for a host and a path below it.
func (l *Live) find(host, path string) (best rewrite.Pair, ok bool) {
	name := hostOnly(host)
	for _, p := range l.Pairs {
		below := p.From.Path == "" || path == p.From.Path || strings.HasPrefix(path, p.From.Path+"/")
		if p.From.Host == name && below && (!ok || len(p.From.Path) > len(best.From.Path)) {
			best, ok = p, true
		}
	}
	return best, ok
}

func hostOnly(host string) string {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return strings.ToLower(strings.TrimSuffix(host, "."))
}

// back rewrites what the copy calls itself into what the visitor calls it.
func (l *Live) back(scheme, port string) (*rewrite.Rewriter, error) {
	var pairs []rewrite.Pair
	seen := map[site.Address]bool{}
	for _, p := range l.Pairs {
		if !seen[p.To] {
			seen[p.To] = true
			to := p.From
			to.Scheme, to.Port = scheme, port
			pairs = append(pairs, rewrite.Pair{From: p.To, To: to})
		}
	}
	return rewrite.New(pairs, nil)
}

// ServeHTTP answers for the live name in the request.
func (l *Live) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	pair, ok := l.find(r.Host, r.URL.Path)
	if !ok {
		http.Error(w, "this name is none of the site's: "+strings.Join(l.Hosts(), ", "), http.StatusForbidden)
		return
	}
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	_, port, _ := net.SplitHostPort(r.Host)
	back, err := l.back(scheme, port)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	there := net.JoinHostPort(pair.To.Host, pair.To.Port)
	p := &httputil.ReverseProxy{
		Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", l.Gateway)
		}, DisableKeepAlives: true, DisableCompression: true},
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL.Scheme, pr.Out.URL.Host, pr.Out.Host = "http", there, there
			pr.Out.URL.Path = pair.To.Path + strings.TrimPrefix(pr.Out.URL.Path, pair.From.Path)
			pr.Out.URL.RawPath = ""
			pr.Out.Header.Del("Accept-Encoding")
			for _, h := range []string{"Referer", "Origin"} {
				if v := pr.Out.Header.Get(h); v != "" {
					pr.Out.Header.Set(h, strings.Replace(v, scheme+"://"+r.Host+pair.From.Path, pair.To.String(), 1))
				}
			}
		},
		ModifyResponse: func(resp *http.Response) error { return renamed(resp, back) },
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if !errors.Is(err, context.Canceled) {
				l.Log.Error("a copy under its live name", "host", r.Host, "err", err)
				http.Error(w, "the copy does not answer: no keeper is at work (alibi keeper)", http.StatusBadGateway)
			}
		},
	}
	p.ServeHTTP(w, r)
}

// textual tells whether an answer of a type may hold addresses.
func textual(contentType string) bool {
	t, _, _ := mime.ParseMediaType(contentType)
	return strings.HasPrefix(t, "text/") || strings.HasSuffix(t, "json") || strings.HasSuffix(t, "xml") ||
		strings.HasSuffix(t, "javascript")
}

// renamed exchanges addresses in an answer.
func renamed(resp *http.Response, back *rewrite.Rewriter) error {
	for name, values := range resp.Header {
		for i, v := range values {
			out, _, _ := back.Value([]byte(v), rewrite.Prose)
			resp.Header[name][i] = string(out)
		}
	}
	if !textual(resp.Header.Get("Content-Type")) || resp.Request.Method == http.MethodHead {
		return nil
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, maxPage))
	if err != nil {
		return err
	}
	if len(text) == maxPage { // too long to hold: it passes as it is
		resp.Body = struct {
			io.Reader
			io.Closer
		}{io.MultiReader(bytes.NewReader(text), resp.Body), resp.Body}
		return nil
	}
	out, _, _ := back.Value(text, rewrite.Prose)
	resp.Body.Close()
	resp.Body = io.NopCloser(bytes.NewReader(out))
	resp.ContentLength = int64(len(out))
	resp.Header.Set("Content-Length", strconv.Itoa(len(out)))
	return nil
}

// Proxy is an HTTP proxy for a browser on this machine: the live site's names
// lead to the copy, by HTTP and by HTTPS, and no others lead anywhere.
type Proxy struct {
	Live *Live
	once sync.Once
	cert tls.Certificate
	err  error
}

// ServeHTTP takes a browser's request to a proxy.
func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_, known := p.Live.find(r.Host, "/")
	known = known || slices.Contains(p.Live.Hosts(), hostOnly(r.Host))
	switch {
	case !known:
		onlyLeads(w, p.Live.Hosts())
	case r.Method == http.MethodConnect:
		p.connect(w)
	default:
		p.Live.ServeHTTP(w, r)
	}
}

// connect speaks TLS with the browser, with a certificate that nobody signed
// but Alibi: the browser warns once.
func (p *Proxy) connect(w http.ResponseWriter) {
	p.once.Do(func() { p.cert, p.err = selfSigned(p.Live.Hosts()) })
	if p.err != nil {
		http.Error(w, p.err.Error(), http.StatusInternalServerError)
		return
	}
	c, read, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	if _, err := io.WriteString(c, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		c.Close()
		return
	}
	c = &begun{Conn: c, r: read.Reader}
	conn := tls.Server(c, &tls.Config{Certificates: []tls.Certificate{p.cert}, NextProtos: []string{"http/1.1"}})
	secure := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.TLS = &tls.ConnectionState{HandshakeComplete: true} // the server does not see through the listener
		p.Live.ServeHTTP(w, r)
	})
	srv := &http.Server{
		Handler:           secure,
		ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:          slog.NewLogLogger(p.Live.Log.Handler(), slog.LevelDebug),
	}
	_ = srv.Serve(&single{conn: conn, done: make(chan struct{})})
}

// single is a listener that has one connection to give.
type single struct {
	conn net.Conn
	once sync.Once
	done chan struct{}
}

// Accept gives the connection, and then waits for its end.
func (s *single) Accept() (net.Conn, error) {
	var c net.Conn
	s.once.Do(func() { c = &closing{Conn: s.conn, done: s.done} })
	if c != nil {
		return c, nil
	}
	<-s.done
	return nil, net.ErrClosed
}

func (s *single) Close() error   { return nil }
func (s *single) Addr() net.Addr { return s.conn.LocalAddr() }

// begun is a connection of which something may have been read already.
type begun struct {
	net.Conn
	r io.Reader
}

func (b *begun) Read(p []byte) (int, error) { return b.r.Read(p) }

type closing struct {
	net.Conn
	once sync.Once
	done chan struct{}
}

func (c *closing) Close() error {
	c.once.Do(func() { close(c.done) })
	return c.Conn.Close()
}

// selfSigned makes a certificate for names, for a day, in memory only.
func selfSigned(list []string) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return tls.Certificate{}, err
	}
	t := &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: "a copy on this machine"},
		DNSNames:     list,
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(24 * time.Hour),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, nil
}
