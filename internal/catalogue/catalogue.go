// Package catalogue finds and fetches plugins, themes and cores: from a public
// catalogue, by the HTTP interface that the CMS itself uses
// (https://codex.wordpress.org/WordPress.org_API), from an address, a file or a
// git repository. What is fetched is bounded, checked and unpacked into a cache
// by its digest; nothing of it is run.
package catalogue

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/site"
)

// Public is the catalogue that the CMS asks.
const Public = "https://api.wordpress.org"

// Errors that callers decide on.
var (
	ErrUnknown = errors.New("the catalogue does not know it")
	ErrHostile = errors.New("what came is not taken")
	ErrTooBig  = errors.New("it is larger than is taken")
)

// Client asks one catalogue and keeps what it fetches. It is safe for
// concurrent use.
type Client struct {
	Address string // "" is Public
	Dir     string // folder of this machine for what was fetched
	HTTP    *http.Client
	// Identify tells what the files below a root are, named by their folder.
	Identify func(root host.Tree, folder string) (site.ComponentKind, site.Component, bool)
	Limits   Limits

	mu    sync.Mutex
	infos map[string]Info
	locks map[string]*sync.Mutex
}

// Limits bound what is taken. The zero value of each is the usual bound.
type Limits struct {
	Bytes    int64         // of a download; usually 512 MiB
	Unpacked int64         // of its files together; usually 2 GiB
	Files    int           // usually 100,000
	Silence  time.Duration // without a byte; usually 30 s
	Whole    time.Duration // for one download; usually 15 min
}

func (l Limits) full() Limits {
	return Limits{
		cmp.Or(l.Bytes, 512<<20),
		cmp.Or(l.Unpacked, 2<<30),
		cmp.Or(l.Files, 100_000),
		cmp.Or(l.Silence, 30*time.Second),
		cmp.Or(l.Whole, 15*time.Minute),
	}
}

// Info is what the catalogue says of a plugin or a theme.
type Info struct {
	Kind         site.ComponentKind `json:"kind"`
	Slug         string             `json:"slug"`
	Name         string             `json:"name"`
	Author       string             `json:"author"`
	Text         string             `json:"text"`
	Newest       string             `json:"newest"`
	RequiresCore string             `json:"requires_core,omitempty"` // of the newest
	RequiresPHP  string             `json:"requires_php,omitempty"`
	Tested       string             `json:"tested,omitempty"` // with cores up to this
	Requires     []string           `json:"requires,omitempty"`
	Versions     map[string]string  `json:"versions,omitempty"` // addresses of archives
}

// List gives the versions, newest first.
func (i Info) List() (out []string) {
	for v := range i.Versions {
		if v != "trunk" {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b string) int { return site.CompareVersions(b, a) })
	return out
}

func (c *Client) address() string {
	return strings.TrimRight(cmp.Or(c.Address, Public), "/")
}

func (c *Client) http() *http.Client {
	if c.HTTP != nil {
		return c.HTTP
	}
	return http.DefaultClient
}

// answer is what the catalogue says of one thing, in the forms in which it does:
// a field that has no value is false.
type answer struct {
	Name            string            `json:"name"`
	Slug            string            `json:"slug"`
	Version         any               `json:"version"`
	Author          any               `json:"author"`
	Requires        any               `json:"requires"`
	RequiresPHP     any               `json:"requires_php"`
	Tested          any               `json:"tested"`
	RequiresPlugins []string          `json:"requires_plugins"`
	Short           string            `json:"short_description"`
	Description     string            `json:"description"`
	Link            string            `json:"download_link"`
	Versions        map[string]string `json:"versions"`
	Error           string            `json:"error"`
}

var tags = regexp.MustCompile(`<[^>]*>`)

// words takes a text out of a value of any form.
func words(v any) string {
	switch v := v.(type) {
	case string:
		return strings.TrimSpace(html.UnescapeString(tags.ReplaceAllString(v, "")))
	case map[string]any:
		return cmp.Or(words(v["display_name"]), words(v["user_nicename"]))
	}
	return ""
}

func (a answer) info(kind site.ComponentKind) Info {
	i := Info{
		Kind:         kind,
		Slug:         a.Slug,
		Name:         words(a.Name),
		Author:       words(a.Author),
		Text:         words(cmp.Or(a.Short, a.Description)),
		Newest:       words(a.Version),
		RequiresCore: words(a.Requires),
		RequiresPHP:  words(a.RequiresPHP),
		Tested:       words(a.Tested),
		Requires:     a.RequiresPlugins,
		Versions:     a.Versions,
	}
	if i.Versions == nil {
		i.Versions = map[string]string{}
	}
	if i.Newest != "" && a.Link != "" {
		i.Versions[i.Newest] = a.Link
	}
	return i
}

// ask puts a question and reads the answer as JSON.
func (c *Client) ask(ctx context.Context, path string, q url.Values, to any) error {
	ctx, cancel := context.WithTimeout(ctx, c.Limits.full().Silence)
	defer cancel()
	u := c.address() + path
	if len(q) > 0 {
		u += "?" + q.Encode()
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u, nil)
	if err != nil {
		return fmt.Errorf("the catalogue's address: %w", err)
	}
	resp, err := c.http().Do(req)
	if err != nil {
		return fmt.Errorf("asking the catalogue %s: %w; check the line, or catalogue.address in the configuration",
			c.address(), err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusNotFound {
		return fmt.Errorf("the catalogue %s answers %s", c.address(), resp.Status)
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	if err != nil {
		return fmt.Errorf("reading what the catalogue answers: %w", err)
	}
	if err := json.Unmarshal(b, to); err != nil {
		return fmt.Errorf("the catalogue %s does not answer as one: %w", c.address(), err)
	}
	return nil
}

// singular is how the interface names kinds.
var plural = map[site.ComponentKind]string{site.Plugin: "plugins", site.Theme: "themes"}

// Info asks for one plugin or theme.
func (c *Client) Info(ctx context.Context, kind site.ComponentKind, slug string) (Info, error) {
	if plural[kind] == "" {
		return Info{}, fmt.Errorf("the catalogue has plugins and themes, and no %s of that name", kind)
	}
	key := string(kind) + "/" + slug
	c.mu.Lock()
	i, ok := c.infos[key]
	c.mu.Unlock()
	if ok {
		return i, nil
	}
	var a answer
	q := url.Values{
		"action":                             {string(kind) + "_information"},
		"request[slug]":                      {slug},
		"request[fields][versions]":          {"1"},
		"request[fields][short_description]": {"1"},
	}
	if err := c.ask(ctx, "/"+plural[kind]+"/info/1.2/", q, &a); err != nil {
		return Info{}, err
	}
	if a.Error != "" || a.Slug == "" {
		return Info{}, fmt.Errorf("%s %s: %w", kind, slug, ErrUnknown)
	}
	if a.Slug != slug {
		return Info{}, fmt.Errorf("%w: asked for the %s %s, the catalogue answers of %q", ErrHostile, kind, slug,
			a.Slug)
	}
	i = a.info(kind)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.infos == nil {
		c.infos = map[string]Info{}
	}
	c.infos[key] = i
	return i, nil
}

// Forget has the catalogue asked anew.
func (c *Client) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.infos = nil
}

// Search finds plugins or themes by words.
func (c *Client) Search(ctx context.Context, kind site.ComponentKind, text string) ([]Info, error) {
	var found struct{ Plugins, Themes []answer }
	q := url.Values{"action": {"query_" + plural[kind]}, "request[search]": {text}, "request[per_page]": {"24"}}
	if err := c.ask(ctx, "/"+plural[kind]+"/info/1.2/", q, &found); err != nil {
		return nil, err
	}
	var out []Info
	for _, a := range append(found.Plugins, found.Themes...) {
		if site.GoodSlug(a.Slug) {
			out = append(out, a.info(kind))
		}
	}
	return out, nil
}

// CoreVersion is one version of the CMS.
type CoreVersion struct {
	Version string `json:"version"`
	State   string `json:"state"` // "latest", "outdated" or "insecure"
}

// Cores lists the versions of the CMS, newest first.
func (c *Client) Cores(ctx context.Context) ([]CoreVersion, error) {
	var all map[string]string
	if err := c.ask(ctx, "/core/stable-check/1.0/", nil, &all); err != nil {
		return nil, err
	}
	var out []CoreVersion
	for v, state := range all {
		out = append(out, CoreVersion{v, state})
	}
	slices.SortFunc(out, func(a, b CoreVersion) int { return site.CompareVersions(b.Version, a.Version) })
	return out, nil
}

// core gives the version and the address of its archive; "" is the newest.
func (c *Client) core(ctx context.Context, version string) (string, string, error) {
	var found struct {
		Offers []struct {
			Version  string
			Packages struct{ Full string }
			Download string
		}
	}
	if err := c.ask(ctx, "/core/version-check/1.7/", nil, &found); err != nil {
		return "", "", err
	}
	if len(found.Offers) == 0 {
		return "", "", fmt.Errorf("the catalogue has no core of the CMS: %w", ErrUnknown)
	}
	o := found.Offers[0]
	from := cmp.Or(o.Packages.Full, o.Download)
	if version == "" || version == o.Version {
		return o.Version, from, nil
	}
	for _, x := range found.Offers {
		if x.Version == version {
			return version, cmp.Or(x.Packages.Full, x.Download), nil
		}
	}
	all, err := c.Cores(ctx)
	if err != nil {
		return "", "", err
	}
	if !slices.ContainsFunc(all, func(x CoreVersion) bool { return x.Version == version }) {
		return "", "", fmt.Errorf("core %s: %w; it has %s", version, ErrUnknown, first(all))
	}
	return version, strings.ReplaceAll(from, "-"+o.Version, "-"+version), nil
}

func first(all []CoreVersion) string {
	var out []string
	for _, v := range all[:min(6, len(all))] {
		out = append(out, v.Version)
	}
	return strings.Join(out, ", ")
}

// Resolve gives the version that a source means and the address of its archive.
func (c *Client) Resolve(ctx context.Context, s site.Source) (site.Source, string, error) {
	var from string
	var err error
	switch {
	case s.From != "":
		return s, s.From, nil
	case s.Kind == site.Core:
		s.Slug = "wordpress"
		s.Version, from, err = c.core(ctx, s.Version)
		return s, from, err
	}
	i, err := c.Info(ctx, s.Kind, s.Slug)
	if err != nil {
		return s, "", err
	}
	s.Version = cmp.Or(s.Version, i.Newest)
	if from = i.Versions[s.Version]; from == "" {
		return s, "", fmt.Errorf("%s %s: %w in version %s; it has %s", s.Kind, s.Slug, ErrUnknown, s.Version,
			strings.Join(i.List(), ", "))
	}
	return s, from, nil
}
