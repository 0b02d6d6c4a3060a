package gateway

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/runtime/pool"
	"alibi/internal/site"
)

// copyBanner is a part of the banner that only copies show.
const copyBanner = "<b>COPY</b>"

// probePages is how many of the pages that the first one leads to are asked for, and of the files.
const probePages = 12

// probeHeader carries a signed word that lets evidence see a copy before
// anybody else does.
const probeHeader = "Alibi-Probe"

// Visitor asks sites over HTTP for the operations: copies at the gateway, to which it shows a
// signed word, and live sites from their own hosts.
type Visitor struct {
	Secret []byte
	Now    func() time.Time
	Hosts  func(context.Context, string) (host.Host, error)
	// Most is how many of the pages that a copy's first one leads to are asked for, and of the files; 0: 12.
	Most int
}

var _ op.Web = Visitor{}

func (v Visitor) word(s site.Site) string {
	return sign(v.Secret, payload("probe", s.ID, "", v.Now().Add(keyLife)))
}

// Probe asks a copy for its first page, and for pages that it leads to.
func (v Visitor) Probe(ctx context.Context, s site.Site) (op.Answer, error) {
	return probe(ctx, s, v.word(s), cmp.Or(v.Most, probePages))
}

// First asks a copy for its first page.
func (v Visitor) First(ctx context.Context, s site.Site) (op.Answer, error) {
	return probe(ctx, s, v.word(s), 0)
}

// Try has a copy's own code try what its quiet rules forbid, and to reach what is outside of it.
func (v Visitor) Try(ctx context.Context, s site.Site, out op.Outside) (op.Tried, error) {
	if !pool.Runs(s) {
		return op.Tried{}, op.ErrNotRun
	}
	ask, err := json.Marshal(out)
	if err != nil {
		return op.Tried{}, err
	}
	return try(ctx, s, http.Header{probeHeader: {v.word(s)}, askHeader: {string(ask)}})
}

// Wake has a copy's own code do what belongs to other components.
func (v Visitor) Wake(ctx context.Context, s site.Site, ask op.Ask) (op.Woken, error) {
	if !pool.Runs(s) {
		return op.Woken{}, op.ErrNotRun
	}
	text, err := json.Marshal(ask)
	if err != nil {
		return op.Woken{}, err
	}
	if err := who(ctx, s, v.word(s)); err != nil {
		return op.Woken{}, err
	}
	header := http.Header{probeHeader: {v.word(s)}, askHeader: {string(text)}}
	status, page, err := fetch(ctx, s, s.Address().String()+"/-/wake", header, 5*time.Minute)
	if err != nil {
		return op.Woken{}, fmt.Errorf("having %s bring its data in line: %w", s.Name, err)
	}
	return op.ParseWoken(status, page)
}

// Post sends a form to an address of a copy's, before anybody else sees it.
func (v Visitor) Post(ctx context.Context, s site.Site, path string, form url.Values) (int, string, error) {
	return send(ctx, s, s.Address().String()+path, http.Header{probeHeader: {v.word(s)}}, form.Encode(),
		2*time.Minute)
}

// try reads the answer of the quiet plugin: a value for each rule, and some of
// what the code runs on.
func try(ctx context.Context, s site.Site, header http.Header) (op.Tried, error) {
	status, text, err := fetch(ctx, s, s.Address().String()+"/-/try", header, patience)
	if err != nil {
		return op.Tried{}, fmt.Errorf("asking %s to try its quiet rules: %w", s.Name, err)
	}
	var all map[string]any
	if err := json.Unmarshal([]byte(text), &all); err != nil || status != http.StatusOK {
		return op.Tried{}, fmt.Errorf("asking %s to try its quiet rules: it answers %d, and not what it should", s.Name,
			status)
	}
	str := func(k string) string { v, _ := all[k].(string); return v }
	var outside struct {
		Walled bool         `json:"walled"`
		Tries  []op.Attempt `json:"tries"`
	}
	if err := json.Unmarshal([]byte(text), &outside); err != nil {
		return op.Tried{}, fmt.Errorf("asking %s to try what is outside of it: %w", s.Name, err)
	}
	t := op.Tried{
		PHP:    str("php"),
		Core:   str("core"),
		Memory: str("memory"),
		Walled: outside.Walled,
		Tries:  outside.Tries,
		Holds:  map[site.Rule]bool{},
	}
	for _, r := range site.QuietRules {
		if v, ok := all[string(r)].(bool); ok {
			t.Holds[r] = v
		}
	}
	return t, nil
}

// patience is how long a page may take, and firstPatience how long it may take to be the first: then nothing of the
// copy's code is compiled or in the cache, and a machine that is busy with much else is slow, not broken.
const (
	patience      = 20 * time.Second
	firstPatience = 2 * time.Minute
)

// fetch asks a copy for an address of its own, as a browser on this machine would.
func fetch(
	ctx context.Context,
	s site.Site,
	address string,
	header http.Header,
	patience time.Duration,
) (int, string, error) {
	return send(ctx, s, address, header, "", patience)
}

// Client asks a copy as a browser on this machine would.
func Client(s site.Site) *http.Client {
	d := &net.Dialer{Timeout: 3 * time.Second}
	return &http.Client{Timeout: patience, Transport: &http.Transport{
		// Names below localhost are this machine (RFC 6761); not every resolver knows.
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return d.DialContext(ctx, network, net.JoinHostPort("127.0.0.1", s.Address().Port))
		}, DisableKeepAlives: true}}
}

// Fetch asks for an address, and tells how large the answer is.
func Fetch(ctx context.Context, c *http.Client, address string) (status, size int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, 0, err
	}
	resp, err := c.Do(req)
	if err != nil {
		return 0, 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<20))
	return resp.StatusCode, int(n), err
}

// send sends a form to an address of a copy, or asks for it if there is none.
func send(
	ctx context.Context,
	s site.Site,
	address string,
	header http.Header,
	form string,
	patience time.Duration,
) (int, string, error) {
	c := Client(s)
	c.Timeout = patience
	method, body := http.MethodGet, io.Reader(nil)
	if form != "" {
		method, body = http.MethodPost, strings.NewReader(form)
		header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return 0, "", err
	}
	req.Header = header
	resp, err := c.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	return resp.StatusCode, string(b), err
}

// probe asks a copy for its first page and some that it leads to.
func probe(ctx context.Context, s site.Site, word string, most int) (op.Answer, error) {
	base := s.Address().String()
	if pool.Runs(s) && s.Stack == "wordpress" {
		if err := who(ctx, s, word); err != nil {
			return op.Answer{}, err
		}
	}
	header := http.Header{probeHeader: {word}}
	status, page, err := fetch(ctx, s, base+"/", header.Clone(), firstPatience)
	if err != nil {
		return op.Answer{}, fmt.Errorf("asking %s for its first page: %w", base, err)
	}
	to := leads(page, base)
	a := op.Answer{Status: status, Bytes: len(page), Title: to.title, Banner: strings.Contains(page, copyBanner)}
	to.pages, to.files = to.pages[:min(len(to.pages), most)], to.files[:min(len(to.files), most)]
	g := errgroup.Group{}
	g.SetLimit(4)
	var mu sync.Mutex
	for i, u := range slices.Concat(to.pages, to.files) {
		g.Go(func() error {
			st, _, err := fetch(ctx, s, u, header.Clone(), patience)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil || st >= 500:
				a.Failed = append(a.Failed, fmt.Sprintf("%s answers %d", strings.TrimPrefix(u, base), st))
			case st != http.StatusOK:
				a.Gone = append(a.Gone, strings.TrimPrefix(u, base))
			case i < len(to.pages):
				a.Pages++
			default:
				a.Files++
			}
			return nil
		})
	}
	_ = g.Wait()
	return a, nil
}

// who asks a copy's running code what it works with: no page is asked for while
// that is not the copy's own.
func who(ctx context.Context, s site.Site, word string) error {
	status, text, err := fetch(ctx, s, s.Address().String()+"/-/who", http.Header{probeHeader: {word}}, firstPatience)
	if err != nil {
		return fmt.Errorf("asking %s what it works with: %w", s.Name, err)
	}
	i, known, err := op.ParseWho(status, text)
	switch {
	case errors.Is(err, op.ErrBroken):
		return nil // its code breaks off before it has a database: its pages tell
	case err != nil:
		return err
	case known:
		return i.Belongs(s)
	}
	// the quiet plugin of an older Alibi answers that at least
	if _, err := try(ctx, s, http.Header{probeHeader: {word}}); err != nil {
		return fmt.Errorf(
			"%w, as far as it can be told: its quiet plugin does not run, so no page of it was asked for; look at "+
				"the must-use plugins that its configuration names, and bring it in line with its origin again",
			op.ErrForeign,
		)
	}
	return nil
}
