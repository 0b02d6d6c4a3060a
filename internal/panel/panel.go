// Package panel attaches the names by which visitors come to a site where its host wants them told: many web servers
// answer only for names that were attached to a site in the panel of their host, and need a while for each.
//
// A panel speaks JSON over HTTP (docs/moving.md says all of it): who has another one puts a small program in between.
package panel

import (
	"bytes"
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
	"time"

	"alibi/internal/site"
)

// Panel is what a host lets its customers do with the names of a site, which is known by its document root there.
type Panel interface {
	// Names are those that are attached to it, in the panel's order; none where none are.
	Names(ctx context.Context, root string) ([]site.AttachedName, error)
	// Attach has a name lead to it. The host may need a while: until then the name is pending. One that is attached
	// to it already stays as it is; one of another site is refused (ErrTaken).
	Attach(ctx context.Context, root, name string) error
	// MakePrimary has the site's other names lead visitors on to this one, which must be active.
	MakePrimary(ctx context.Context, root, name string) error
	// Detach has a name lead to it no more. One that is not attached stays so.
	Detach(ctx context.Context, root, name string) error
}

// Errors of a panel.
var (
	ErrTaken    = errors.New("the name is attached to another site there")
	ErrRefused  = errors.New("the panel refuses")
	ErrNoAnswer = errors.New("the panel gives no answer that could be used")
)

// Client asks a panel over HTTP.
type Client struct {
	Host    string // whose panel it is
	Address string // of the panel, without a slash at its end
	Token   string // that lets us in (RFC 6750)
}

var _ Panel = Client{}

// patience is how long a panel may take for one answer.
const patience = 30 * time.Second

// Check says what is wrong with an address of a panel: its token is told to nobody who listens.
func Check(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%q is no address of a panel, such as https://panel.example/api", address)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme == "http" && !(ip != nil && ip.IsLoopback() || u.Hostname() == "localhost") {
		return fmt.Errorf("%s: what is said to it could be heard on the way: name an address with https", address)
	}
	return nil
}

// Names are those that are attached to the site in a folder.
func (c Client) Names(ctx context.Context, root string) ([]site.AttachedName, error) {
	var out struct {
		Names []site.AttachedName `json:"names"`
	}
	if err := c.ask(ctx, http.MethodGet, root, "", "", &out); err != nil {
		return nil, err
	}
	for _, n := range out.Names {
		if n.Name == "" || !slices.Contains([]site.AttachState{site.AttachPending, site.AttachActive,
			site.AttachRefused}, n.State) {
			return nil, fmt.Errorf("panel of %s: %w: it says %q of the name %q", c.Host, ErrNoAnswer, n.State, n.Name)
		}
	}
	return out.Names, nil
}

// Attach has a name lead to the site in a folder.
func (c Client) Attach(ctx context.Context, root, name string) error {
	return c.ask(ctx, http.MethodPut, root, name, "", nil)
}

// MakePrimary has its other names lead visitors on to this one.
func (c Client) MakePrimary(ctx context.Context, root, name string) error {
	return c.ask(ctx, http.MethodPut, root, name, "/primary", nil)
}

// Detach has a name lead to it no more.
func (c Client) Detach(ctx context.Context, root, name string) error {
	return c.ask(ctx, http.MethodDelete, root, name, "", nil)
}

// ask sends one request; name and what of it are parts of its path, and "" for all names.
func (c Client) ask(ctx context.Context, method, root, name, what string, into any) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	at := strings.TrimSuffix(c.Address, "/") + "/names"
	if name != "" {
		at += "/" + url.PathEscape(name) + what
	}
	req, err := http.NewRequestWithContext(ctx, method, at+"?root="+url.QueryEscape(root), nil)
	if err != nil {
		return fmt.Errorf("panel of %s: %w", c.Host, err)
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	resp, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("panel of %s: %w: %w", c.Host, ErrNoAnswer, err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return fmt.Errorf("panel of %s: %w: %w", c.Host, ErrNoAnswer, err)
	}
	switch {
	case resp.StatusCode == http.StatusConflict:
		return fmt.Errorf("panel of %s, name %s: %w%s", c.Host, name, ErrTaken, says(text))
	case method == http.MethodDelete && resp.StatusCode == http.StatusNotFound:
		return nil
	case resp.StatusCode >= 300:
		return fmt.Errorf("panel of %s: %w (%s)%s", c.Host, ErrRefused, resp.Status, says(text))
	case into == nil:
		return nil
	}
	if err := json.Unmarshal(text, into); err != nil {
		return fmt.Errorf("panel of %s: %w: %w", c.Host, ErrNoAnswer, err)
	}
	return nil
}

// client follows nobody to another address: the token is for this one.
var client = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// says is a panel's own word on why it does not do something.
func says(text []byte) string {
	var e struct {
		Error string `json:"error"`
	}
	if json.Unmarshal(bytes.TrimSpace(text), &e) != nil || e.Error == "" {
		return ""
	}
	return ": " + e.Error
}
