package gateway

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"regexp"
	"strings"
	"time"

	"alibi/internal/op"
	"alibi/internal/site"
)

var (
	titleTag = regexp.MustCompile(`(?s)<title>(.*?)</title>`)
	linkTag  = regexp.MustCompile(`(?:href|src)="([^"#]+)"`)
)

// probePages is how many further addresses of the first page are asked for.
const probePages = 12

// probeHeader carries a signed word that lets evidence see a copy before
// anybody else does.
const probeHeader = "Alibi-Probe"

// Prober gives a Probe for an environment of operations.
func Prober(secret []byte, now func() time.Time) func(context.Context, site.Site) (op.Answer, error) {
	return func(ctx context.Context, s site.Site) (op.Answer, error) {
		return probe(ctx, s, sign(secret, payload("probe", s.ID, "", now().Add(keyLife))))
	}
}

// probe asks a copy for its first page and some that it leads to, as a browser
// on this machine would.
func probe(ctx context.Context, s site.Site, word string) (op.Answer, error) {
	base := s.Address().String()
	d := &net.Dialer{Timeout: 3 * time.Second}
	c := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{
		// Names below localhost are this machine (RFC 6761); not every resolver knows.
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return d.DialContext(ctx, network, net.JoinHostPort("127.0.0.1", s.Address().Port))
		}, DisableKeepAlives: true}}
	get := func(url string) (int, string, error) {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
		if err != nil {
			return 0, "", err
		}
		req.Header.Set(probeHeader, word)
		resp, err := c.Do(req)
		if err != nil {
			return 0, "", err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
		return resp.StatusCode, string(b), err
	}
	status, page, err := get(base + "/")
	if err != nil {
		return op.Answer{}, fmt.Errorf("asking %s for its first page: %w", base, err)
	}
	a := op.Answer{Status: status, Bytes: len(page), Banner: strings.Contains(page, "<b>COPY</b>")}
	if m := titleTag.FindStringSubmatch(page); m != nil {
		a.Title = m[1]
	}
	seen := map[string]bool{}
	for _, m := range linkTag.FindAllStringSubmatch(page, -1) {
		u := strings.ReplaceAll(m[1], "&amp;", "&")
		if strings.HasPrefix(u, "/") && !strings.HasPrefix(u, "//") {
			u = base + u
		}
		if !strings.HasPrefix(u, base+"/") || seen[u] || len(seen) == probePages {
			continue
		}
		seen[u] = true
		switch st, _, err := get(u); {
		case err != nil || st >= 500:
			a.Failed = append(a.Failed, fmt.Sprintf("%s answers %d", strings.TrimPrefix(u, base), st))
		case st != http.StatusOK:
			a.Gone = append(a.Gone, strings.TrimPrefix(u, base))
		default:
			a.Pages++
		}
	}
	return a, nil
}
