package gateway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"strconv"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/site"
)

// Dialer connects to a running copy's web server.
type Dialer func(ctx context.Context) (net.Conn, error)

// Headers by which Alibi speaks to a copy's code; from outside none comes through.
const (
	tryHeader = "Alibi-Try"
	askHeader = "Alibi-Ask"
)

// maxPage is how much of a page is held back to put the banner into it.
const maxPage = 16 << 20

// proxy hands a request to the copy's own code.
func (g *Gateway) proxy(w http.ResponseWriter, r *http.Request, s site.Site, b banner, word http.Header) {
	dial, err := g.Run(r.Context(), s)
	if err != nil {
		g.notice(
			w,
			http.StatusBadGateway,
			notice{
				Heading: s.Name + " does not run",
				Lines: []string{
					err.Error(),
					"What went wrong stands in Alibi's log too. The copy's files and tables are whole.",
				},
			},
		)
		return
	}
	leave, ok := g.gate(r.Context(), s.ID)
	if !ok {
		return // who asked is gone
	}
	defer leave()
	g.headers(w.Header(), s)
	p := &httputil.ReverseProxy{
		Transport: &http.Transport{
			DialContext:           func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) },
			DisableKeepAlives:     true,
			DisableCompression:    true,
			ResponseHeaderTimeout: 5 * time.Minute,
		},
		Rewrite: func(pr *httputil.ProxyRequest) {
			pr.Out.URL.Scheme, pr.Out.URL.Host, pr.Out.Host = "http", "copy", r.Host
			for name := range pr.Out.Header {
				if strings.HasPrefix(name, "Alibi-") {
					pr.Out.Header.Del(name)
				}
			}
			pr.Out.Header.Del("Accept-Encoding") // pages are read for the banner
			pr.Out.Header.Set(op.PortHeader, g.Port)
			for name, v := range word {
				pr.Out.Header[name] = v
			}
			if word != nil {
				pr.Out.Method, pr.Out.Body, pr.Out.ContentLength = http.MethodGet, nil, 0
				pr.Out.URL.Path, pr.Out.URL.RawPath, pr.Out.URL.RawQuery = "/", "", ""
			}
		},
		ModifyResponse: func(resp *http.Response) error {
			for _, h := range []string{"X-Robots-Tag", "Content-Security-Policy", "Referrer-Policy", "X-Powered-By",
				"Server"} {
				resp.Header.Del(h) // ours stand
			}
			return addBanner(resp, b)
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if errors.Is(err, context.Canceled) {
				return
			}
			g.Log.Error("a copy does not answer", "site", s.Name, "path", r.URL.Path, "err", err)
			g.notice(
				w,
				http.StatusBadGateway,
				notice{
					Heading: s.Name + " does not answer",
					Lines: []string{
						"Its web server broke off: " + err.Error(),
						"It is started again with the next request.",
					},
				},
			)
		},
		ErrorLog: nil,
	}
	p.ServeHTTP(w, r)
}

// throughGate is how many requests a copy's web server is given at once; further
// ones wait their turn here, instead of being refused there.
const throughGate = 48

// gate waits until a copy can be given one more request; ok is false if whoever
// asked has gone meanwhile.
func (g *Gateway) gate(ctx context.Context, id site.ID) (leave func(), ok bool) {
	made, _ := g.gates.LoadOrStore(id, make(chan struct{}, throughGate))
	at := made.(chan struct{})
	select {
	case at <- struct{}{}:
		return func() { <-at }, true
	case <-ctx.Done():
		return nil, false
	}
}

// headers sets what a running copy's answers say to browsers. What the quiet
// rules forbid to visitors' browsers too is forbidden here.
func (g *Gateway) headers(h http.Header, s site.Site) {
	h.Del("Content-Security-Policy")
	h.Del("Cache-Control")
	h.Del("X-Content-Type-Options")
	own := "'self' http://*." + s.Address().Host + ":" + g.Port
	var rules []string
	for _, q := range s.Quiet {
		switch q {
		case site.QuietStatistics:
			rules = append(rules, "script-src "+own+" 'unsafe-inline' 'unsafe-eval' blob:", "connect-src "+own,
				"img-src "+own+" data: blob:")
		case site.QuietPayments:
			rules = append(rules, "form-action "+own, "frame-src "+own)
		}
	}
	if len(rules) > 0 {
		h.Set("Content-Security-Policy", strings.Join(rules, "; "))
	}
}

// addBanner puts the banner into a page.
func addBanner(resp *http.Response, b banner) error {
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/html") || resp.Header.Get("Content-Encoding") != "" ||
		resp.Request.Method == http.MethodHead {
		return nil
	}
	page, err := io.ReadAll(io.LimitReader(resp.Body, maxPage))
	if err != nil {
		return err
	}
	rest := resp.Body
	if bytes.Contains(bytes.ToLower(page[:min(len(page), 4096)]), []byte("<html")) {
		if page, err = withBanner(page, b); err != nil {
			return err
		}
	}
	if len(page) < maxPage {
		rest.Close()
		resp.Body = io.NopCloser(bytes.NewReader(page))
		resp.ContentLength = int64(len(page))
		resp.Header.Set("Content-Length", strconv.Itoa(len(page)))
		return nil
	}
	resp.Body = struct {
		io.Reader
		io.Closer
	}{io.MultiReader(bytes.NewReader(page), rest), rest}
	resp.ContentLength = -1
	resp.Header.Del("Content-Length")
	return nil
}

// withBanner puts the banner at the beginning of a page's body.
func withBanner(page []byte, b banner) ([]byte, error) {
	var bar bytes.Buffer
	bar.WriteString(
		`<style>.alibi-bar{position:sticky;top:0;z-index:999999;font:14px/1.45 system-ui,sans-serif;` +
			`background:#1d2733;color:#fff;padding:.5rem 1rem;display:flex;gap:.7rem}` +
			`.alibi-bar a{color:#a9dcec}@media print{.alibi-bar{display:none}}</style>`,
	)
	if err := pages.ExecuteTemplate(&bar, "banner", b); err != nil {
		return nil, err
	}
	at := 0
	if i := bytes.Index(bytes.ToLower(page), []byte("<body")); i >= 0 {
		if j := bytes.IndexByte(page[i:], '>'); j >= 0 {
			at = i + j + 1
		}
	}
	return append(append(append(make([]byte, 0, len(page)+bar.Len()), page[:at]...), bar.Bytes()...), page[at:]...), nil
}

// word is a header that the copy's code takes for Alibi's.
func (g *Gateway) word(s site.Site, header, purpose, text string) http.Header {
	return http.Header{
		header: {op.Word(op.Derive(g.Secret, "words", s.ID), purpose, text, g.Now().Add(30*time.Second))},
	}
}

// asked takes what Alibi asks a copy's code from a request of its own.
func asked(r *http.Request) string {
	defer r.Header.Del(askHeader)
	return r.Header.Get(askHeader)
}

// proxied answers for a copy whose code runs.
func (g *Gateway) proxied(w http.ResponseWriter, r *http.Request, s site.Site, b banner, probing bool) {
	switch {
	case strings.HasPrefix(r.URL.Path, "/-/key/") && r.Method != http.MethodGet:
		keyUnspent(w)
	case strings.HasPrefix(r.URL.Path, "/-/key/"):
		account, ok := g.take(r, s)
		if !ok {
			g.badKey(w, s)
			return
		}
		g.proxy(w, r, s, b, g.word(s, op.EnterHeader, "enter", account))
	case probing && r.URL.Path == "/-/try":
		if g.Trying != nil {
			defer g.Trying(s.ID)()
		}
		g.proxy(w, r, s, b, g.word(s, tryHeader, "try", asked(r)))
	case probing && r.URL.Path == "/-/who":
		g.proxy(w, r, s, b, g.word(s, op.WhoHeader, "who", "database"))
	case probing && r.URL.Path == "/-/wake":
		g.proxy(w, r, s, b, g.word(s, op.WakeHeader, "wake", asked(r)))
	case strings.HasPrefix(r.URL.Path, "/-/"):
		g.notice(
			w,
			http.StatusNotFound,
			notice{
				Heading: "No such page",
				Lines:   []string{fmt.Sprintf("The copy %s has nothing at this address.", s.Name)},
			},
		)
	default:
		g.proxy(w, r, s, b, nil)
	}
}
