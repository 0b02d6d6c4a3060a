package gateway

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/site"
)

// livePages is how many pages of a live site are asked for, the first one among
// them: enough to see it fail, few enough not to be felt.
const livePages = 5

// livePatience is how long a page of a live site may take.
const livePatience = 30 * time.Second

// Pages asks a live site for pages: for those that were asked for before, or for the first one and
// some that it leads to. It connects from the site's own host, where its name leads to it whatever
// stands in this machine's hosts file; where that connects to nothing for us, from here. pass is the word with which it
// looks past a notice.
func (v Visitor) Pages(ctx context.Context, s site.Site, pass string, before []op.Page) ([]op.Page, error) {
	if len(s.Addresses) == 0 {
		return nil, op.ErrNoPages
	}
	h, err := v.Hosts(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	l := newLive(h, s, pass)
	if before == nil {
		return l.first(ctx)
	}
	out := make([]op.Page, 0, len(before))
	for _, p := range before {
		status, _, err := l.get(ctx, p.Path)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			status = 0
		}
		out = append(out, op.Page{Path: p.Path, Status: status})
	}
	return out, nil
}

// Runtime asks a live site which PHP runs it, as far as it says so: "" where it does not.
func (v Visitor) Runtime(ctx context.Context, s site.Site) string {
	h, err := v.Hosts(ctx, s.Host)
	if err != nil || len(s.Addresses) == 0 {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	resp, err := newLive(h, s, "").ask(ctx, s.Address().Path+"/")
	if err != nil {
		return ""
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	if err != nil || resp.StatusCode >= http.StatusBadRequest || strings.Contains(string(b), copyBanner) {
		return ""
	}
	for _, by := range resp.Header.Values("X-Powered-By") {
		if v, is := strings.CutPrefix(by, "PHP/"); is {
			v, _, _ = strings.Cut(v, "-")
			return v
		}
	}
	return ""
}

func newLive(h host.Host, s site.Site, pass string) live {
	l := live{host: h, site: s, pass: pass}
	l.client = &http.Client{
		Timeout:       livePatience,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: l.dial, DisableKeepAlives: true,
			// What is asked is whether it answers, of a host that was signed in to: its
			// certificate is its visitors' matter.
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
	}
	return l
}

type live struct {
	host   host.Host
	site   site.Site
	pass   string
	client *http.Client
}

// dial connects to the web server as its host does: at the address that is known of it, else on the host itself or,
// where nobody listens there, by the site's name. Where its host connects to nothing, this machine does, unless the
// site's name leads elsewhere.
func (l live) dial(ctx context.Context, network, addr string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, livePatience)
	defer cancel()
	usual, at := net.JoinHostPort("127.0.0.1", port), addr
	if len(l.site.Web) > 0 {
		usual = net.JoinHostPort(l.site.Web[0], port)
		at = usual
	}
	c, err := l.host.Dial(ctx, network, usual)
	if err != nil && at != usual {
		c, err = l.host.Dial(ctx, network, at)
	}
	if errors.Is(err, host.ErrNoForward) && (at == usual || l.site.State != site.Aside) {
		return (&net.Dialer{}).DialContext(ctx, network, at)
	}
	return c, err
}

// get asks for a page, and gives what it says.
func (l live) get(ctx context.Context, path string) (int, string, error) {
	resp, err := l.ask(ctx, path)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	return resp.StatusCode, string(b), err
}

func (l live) ask(ctx context.Context, path string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, l.site.Address().Origin()+path, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set(op.PassHeader, l.pass)
	req.Header.Set("User-Agent", "alibi")
	req.Header.Set("Cache-Control", "no-cache")
	return l.client.Do(req)
}

// first asks for the first page and some that it leads to.
func (l live) first(ctx context.Context) ([]op.Page, error) {
	a := l.site.Address()
	start := a.Path + "/"
	status, page, err := l.get(ctx, start)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", op.ErrNoPages, err)
	}
	if strings.Contains(page, copyBanner) {
		return nil, fmt.Errorf("%w: its name leads to a copy", op.ErrNoPages)
	}
	out := []op.Page{{Path: start, Status: status}}
	for _, u := range leads(page, a.String()).pages {
		path := strings.TrimPrefix(u, a.Origin())
		if len(out) == livePages {
			break
		}
		status, _, err := l.get(ctx, path)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err == nil {
			out = append(out, op.Page{Path: path, Status: status})
		}
	}
	return out, nil
}
