package wordpress

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"alibi/internal/host"
	"alibi/internal/stack"
)

var _ stack.Admitting = Stack{}

// Admit signs in by the site's own form and uploads the file as a plugin, which is not activated.
func (Stack) Admit(ctx context.Context, a stack.Admission) (*url.URL, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	client := *a.Client
	client.Jar = jar
	base := *a.Address
	base.Path = strings.TrimRight(base.Path, "/") + "/"
	b := &browser{client: &client, header: a.Header, base: &base, user: a.User}
	if err := b.signIn(ctx, a.Password); err != nil {
		return nil, err
	}
	err = b.upload(ctx, a)
	b.signOut(context.WithoutCancel(ctx))
	if err != nil {
		return nil, err
	}
	return base.JoinPath("wp-content/plugins", strings.TrimSuffix(a.Name, ".php"), a.Name), nil
}

// browser goes through a site's pages as an account.
type browser struct {
	client *http.Client
	header http.Header
	base   *url.URL
	user   string
	out    string // the address that signs out
}

// page is what a site answers.
type page struct {
	at     *url.URL
	status int
	root   *html.Node
}

// mostPage is how much of a page is read, in bytes.
const mostPage = 4 << 20

func (b *browser) ask(ctx context.Context, method string, at *url.URL, kind string, body io.Reader) (*page, error) {
	for range 10 {
		if at.Host != b.base.Host || at.Scheme != b.base.Scheme && at.Scheme != "https" {
			return nil, fmt.Errorf("%s leads to %s: name that address", b.base, at)
		}
		req, err := http.NewRequestWithContext(ctx, method, at.String(), body)
		if err != nil {
			return nil, err
		}
		maps.Copy(req.Header, b.header)
		if kind != "" {
			req.Header.Set("Content-Type", kind)
			req.Header.Set("Referer", at.String())
		}
		res, err := b.client.Do(req)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", host.ErrNoAnswer, err)
		}
		root, err := html.Parse(io.LimitReader(res.Body, mostPage))
		res.Body.Close()
		to, lerr := res.Location()
		if lerr != nil {
			return &page{at, res.StatusCode, root}, err
		}
		method, at, kind, body = http.MethodGet, to, "", nil
	}
	return nil, fmt.Errorf("%s leads from one page to another without an end", at)
}

func (b *browser) get(ctx context.Context, path string) (*page, error) {
	path, query, _ := strings.Cut(path, "?")
	at := b.base.JoinPath(path)
	at.RawQuery = query
	p, err := b.ask(ctx, http.MethodGet, at, "", nil)
	if err == nil && b.out == "" {
		b.out = p.link("action=logout")
	}
	return p, err
}

// walk gives the elements below a node.
func walk(n *html.Node, give func(*html.Node)) {
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		if c.Type == html.ElementNode {
			give(c)
		}
		walk(c, give)
	}
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// link finds the first link whose address holds a text.
func (p *page) link(text string) (to string) {
	walk(p.root, func(n *html.Node) {
		if n.Data == "a" && to == "" && strings.Contains(attr(n, "href"), text) {
			to = attr(n, "href")
		}
	})
	return to
}

// words are those of the first element with an ID or a class.
func (p *page) words(name string) (out string) {
	walk(p.root, func(n *html.Node) {
		if out == "" && (attr(n, "id") == name || slices.Contains(strings.Fields(attr(n, "class")), name)) {
			out = strings.Join(strings.Fields(text(n)), " ")
		}
	})
	return out[:min(len(out), 300)]
}

func text(n *html.Node) string {
	if n.Type == html.TextNode {
		return n.Data
	}
	var out strings.Builder
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		out.WriteString(text(c))
	}
	return out.String()
}

// form is one with a field of a name.
type form struct {
	action *url.URL
	values url.Values // what it has already
	asks   []string   // what a person fills in
}

func (p *page) form(field string) *form {
	var found *form
	walk(p.root, func(n *html.Node) {
		if n.Data != "form" || found != nil {
			return
		}
		f := &form{values: url.Values{}}
		walk(n, func(in *html.Node) {
			switch kind := attr(in, "type"); {
			case in.Data != "input" || attr(in, "name") == "":
			case kind == "hidden" || kind == "submit":
				f.values.Set(attr(in, "name"), attr(in, "value"))
			case kind != "checkbox" && kind != "button":
				f.asks = append(f.asks, attr(in, "name"))
			}
		})
		if to, err := p.at.Parse(attr(n, "action")); err == nil && slices.Contains(f.asks, field) {
			f.action, found = to, f
		}
	})
	return found
}

const uploads = "wp-admin/plugin-install.php?tab=upload"

// signIn signs in by the form, and goes on to where plugins are uploaded: the dashboard would begin a draft. What asks
// for more than a name and a password is a person's to answer.
func (b *browser) signIn(ctx context.Context, password string) error {
	p, err := b.get(ctx, "wp-login.php")
	if err != nil {
		return err
	}
	f := p.form("log")
	if f == nil {
		return fmt.Errorf("%w: %s shows no form to sign in (it answers %d)", stack.ErrNotAdmitted, p.at, p.status)
	}
	if more := slices.DeleteFunc(f.asks, func(s string) bool { return s == "log" || s == "pwd" }); len(more) > 0 {
		return b.asksMore(more)
	}
	f.values.Set("log", b.user)
	f.values.Set("pwd", password)
	f.values.Set("testcookie", "1")
	f.values.Set("redirect_to", b.base.String()+uploads)
	p, err = b.ask(ctx, http.MethodPost, f.action, "application/x-www-form-urlencoded",
		strings.NewReader(f.values.Encode()))
	if err != nil {
		return err
	}
	if slices.ContainsFunc(b.client.Jar.Cookies(b.base), func(c *http.Cookie) bool {
		return strings.HasPrefix(c.Name, "wordpress_logged_in_")
	}) {
		b.out = p.link("action=logout")
		return nil
	}
	if said := p.words("login_error"); said != "" {
		return fmt.Errorf("%w of %s: %s", host.ErrAuth, b.user, said)
	}
	return b.asksMore(nil)
}

func (b *browser) asksMore(fields []string) error {
	what := ""
	if len(fields) > 0 {
		what = " (" + strings.Join(fields, ", ") + ")"
	}
	return fmt.Errorf("%w: signing in as %s asks for more than a name and a password%s: a second factor, or a picture, "+
		"is not possible here; name an account without it", host.ErrAuth, b.user, what)
}

// upload puts a plugin of one file there.
func (b *browser) upload(ctx context.Context, a stack.Admission) error {
	p, err := b.get(ctx, uploads)
	if err != nil {
		return err
	}
	f := p.form("pluginzip")
	if f == nil {
		said := p.words("wp-die-message")
		if said == "" {
			said = fmt.Sprintf("the page for that has no form (it answers %d)", p.status)
		}
		return fmt.Errorf("%w: %s may install no plugins at %s: %s; name an administrator's account, of a site whose "+
			"configuration allows it", stack.ErrNotAdmitted, b.user, b.base, said)
	}
	archive, err := zipped(a.Name, a.Text)
	if err != nil {
		return err
	}
	var body bytes.Buffer
	m := multipart.NewWriter(&body)
	for k := range f.values {
		err = errors.Join(err, m.WriteField(k, f.values.Get(k)))
	}
	to, ferr := m.CreateFormFile("pluginzip", strings.TrimSuffix(a.Name, ".php")+".zip")
	if err = errors.Join(err, ferr); err == nil {
		_, err = to.Write(archive)
	}
	if err = errors.Join(err, m.Close()); err != nil {
		return err
	}
	if err := a.Before(ctx); err != nil {
		return err
	}
	if p, err = b.ask(ctx, http.MethodPost, f.action, m.FormDataContentType(), &body); err != nil {
		return err
	}
	switch {
	case p.form("hostname") != nil || p.form("username") != nil:
		return fmt.Errorf("%w: %s may not write to its own folders, and asks for an account of the host: reach the host by "+
			"that", stack.ErrNotAdmitted, b.base)
	case p.status >= 400:
		return fmt.Errorf("%w: uploading a plugin to %s is answered %d: %s", stack.ErrNotAdmitted, b.base, p.status,
			p.words("wp-die-message"))
	}
	return nil
}

// zipped is the archive of a plugin of one file.
func zipped(name, text string) ([]byte, error) {
	text = strings.Replace(text, "<?php\n/*\n", "<?php\n/*\n * Plugin Name: Alibi, at work\n * Description: Stands here "+
		"while Alibi works on this site; need not be activated.\n *\n", 1)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	w, err := z.Create(strings.TrimSuffix(name, ".php") + "/" + name)
	if err == nil {
		_, err = io.WriteString(w, text)
	}
	err = errors.Join(err, z.Close())
	return out.Bytes(), err
}

// signOut ends the session, where a page said how.
func (b *browser) signOut(ctx context.Context) {
	if to, err := b.base.Parse(b.out); err == nil && b.out != "" {
		_, _ = b.ask(ctx, http.MethodGet, to, "", nil) // else it ends by itself
	}
}
