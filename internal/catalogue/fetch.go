package catalogue

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/site"
)

// Package is a component, unpacked on this machine and not to be written to.
type Package struct {
	Source    site.Source    `json:"source"`           // with kind, slug, version and digest
	Dir       string         `json:"dir"`              // folder with its files
	Single    bool           `json:"single,omitempty"` // a plugin that is one file
	Component site.Component `json:"component"`
	Files     int            `json:"files"`
	Bytes     int64          `json:"bytes"`
}

// Fetch gives a component's files, from the cache if they are there.
func (c *Client) Fetch(ctx context.Context, s site.Source, tell func(done, total int64)) (Package, error) {
	if tell == nil {
		tell = func(int64, int64) {}
	}
	s, from, err := c.Resolve(ctx, s)
	if err != nil {
		return Package{}, err
	}
	name := key(s, from)
	defer c.lock(name)()
	if p, err := c.kept(name); err == nil && (s.Digest == "" || s.Digest == p.Source.Digest) && !volatile(s) {
		return p, nil
	}
	work := filepath.Join(c.Dir, name+".new")
	if err := os.RemoveAll(work); err != nil {
		return Package{}, err
	}
	if err := os.MkdirAll(work, 0o700); err != nil {
		return Package{}, fmt.Errorf("making room for what is fetched: %w", err)
	}
	defer os.RemoveAll(work)
	p, err := c.fetch(ctx, s, from, name, work, tell)
	if err != nil {
		return Package{}, fmt.Errorf("%s: %w", s.Text(), err)
	}
	return c.keep(p, name, work)
}

// volatile tells whether the same name may mean other files tomorrow.
func volatile(s site.Source) bool { return s.From != "" }

// key names the cache's folder for a source.
func key(s site.Source, from string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{string(s.Kind), s.Slug, s.Version, from, s.Ref}, "\x00")))
	return hex.EncodeToString(sum[:10])
}

// lock has one at a time fetch the same thing.
func (c *Client) lock(name string) func() {
	c.mu.Lock()
	if c.locks == nil {
		c.locks = map[string]*sync.Mutex{}
	}
	l := c.locks[name]
	if l == nil {
		l = &sync.Mutex{}
		c.locks[name] = l
	}
	c.mu.Unlock()
	l.Lock()
	return l.Unlock
}

const about = "package.json"

// kept reads what the cache has.
func (c *Client) kept(name string) (p Package, err error) {
	b, err := os.ReadFile(filepath.Join(c.Dir, name, about))
	if err == nil {
		err = json.Unmarshal(b, &p)
	}
	if err == nil {
		_, err = os.Stat(p.Dir)
	}
	return p, err
}

// keep gives what was unpacked its place in the cache.
func (c *Client) keep(p Package, name, work string) (Package, error) {
	to := filepath.Join(c.Dir, name)
	rel, err := filepath.Rel(work, p.Dir)
	if err != nil {
		return p, err
	}
	p.Dir = filepath.Join(to, rel)
	b, err := json.Marshal(p)
	if err != nil {
		return p, err
	}
	if err := os.WriteFile(filepath.Join(work, about), b, 0o600); err != nil {
		return p, fmt.Errorf("keeping what was fetched: %w", err)
	}
	if err := os.RemoveAll(to); err != nil {
		return p, err
	}
	return p, os.Rename(work, to)
}

func (c *Client) fetch(
	ctx context.Context,
	s site.Source,
	from, name, work string,
	tell func(done, total int64),
) (Package, error) {
	into := filepath.Join(work, "files")
	switch {
	case s.Git():
		if err := c.clone(ctx, s, into); err != nil {
			return Package{}, err
		}
	default:
		file := from
		if u, err := url.Parse(from); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
			if file, err = c.download(ctx, from, name, tell); err != nil {
				return Package{}, err
			}
		}
		if err := unpack(file, into, c.Limits.full()); err != nil {
			if file != from {
				os.Remove(file) // it is of no use to anybody
			}
			return Package{}, err
		}
	}
	p, err := c.identify(s, into, from)
	if err != nil {
		return p, err
	}
	if s.From == "" {
		err = c.checkSums(ctx, p, from)
	}
	return p, err
}

// identify finds the component among files, and what it is.
func (c *Client) identify(s site.Source, into, from string) (Package, error) {
	p := Package{Source: s}
	list, err := os.ReadDir(into)
	if err != nil {
		return p, err
	}
	p.Dir = into
	folder := folderName(s, from)
	if len(list) == 1 && list[0].IsDir() {
		p.Dir = filepath.Join(into, list[0].Name())
		if s.Slug == "" && !s.Git() {
			folder = list[0].Name()
		}
	}
	if !site.GoodSlug(folder) {
		return p, fmt.Errorf("%w: its folder's name can't be one of a component: %q", ErrHostile, folder)
	}
	root, err := local.New("cache").Open(context.Background(), p.Dir)
	if err != nil {
		return p, err
	}
	defer root.Close()
	kind, comp, ok := c.Identify(root, folder)
	switch {
	case !ok:
		return p, fmt.Errorf("%w: there is neither a plugin nor a theme nor a core in it", ErrHostile)
	case s.Kind != "" && s.Kind != kind:
		return p, fmt.Errorf("%w: it is a %s, and a %s was asked for", ErrHostile, kind, s.Kind)
	case s.From == "" && comp.Version != "" && site.CompareVersions(comp.Version, s.Version) != 0:
		return p, fmt.Errorf("%w: it calls itself version %s, and %s was asked for", ErrHostile, comp.Version,
			s.Version)
	}
	p.Component, p.Source.Kind, p.Source.Slug, p.Source.Version = comp, kind, comp.Slug, comp.Version
	if p.Source.Digest, p.Files, p.Bytes, err = Digest(root); err != nil {
		return p, err
	}
	if s.Digest != "" && s.Digest != p.Source.Digest {
		return p, fmt.Errorf("%w: its files have the digest %s, and %s was asked for: they are not the ones that "+
			"were pinned", ErrHostile, p.Source.Digest, s.Digest)
	}
	return p, nil
}

// folderName is what a component's folder is to be called.
func folderName(s site.Source, from string) string {
	if s.Slug != "" {
		return s.Slug
	}
	name := path.Base(strings.TrimRight(strings.ReplaceAll(from, "\\", "/"), "/"))
	if u, err := url.Parse(from); err == nil && u.Path != "" {
		name = path.Base(u.Path)
	}
	for _, ext := range []string{".git", ".zip", ".gz", ".tgz", ".tar"} {
		name = strings.TrimSuffix(name, ext)
	}
	return name
}

// Digest adds up the files below a root: the SHA-256 of the list that sha256sum
// writes of them, sorted by path.
func Digest(root host.Tree) (digest string, files int, size int64, err error) {
	list, err := sums(root)
	if err != nil {
		return "", 0, 0, err
	}
	h := sha256.New()
	for _, f := range list {
		fmt.Fprintf(h, "%s  %s\n", f.sum, f.name)
		files, size = files+1, size+f.size
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), files, size, nil
}

type summed struct {
	name, sum string
	size      int64
}

// sums digests every file below a root.
func sums(root host.Tree) (out []summed, err error) {
	var walk func(dir string) error
	walk = func(dir string) error {
		list, err := root.ReadDir(dir)
		if err != nil {
			return err
		}
		for _, fi := range list {
			name := path.Join(dir, fi.Name())
			switch {
			case fi.IsDir():
				if err := walk(name); err != nil {
					return err
				}
			case fi.Mode().IsRegular():
				f, err := root.Open(name)
				if err != nil {
					return err
				}
				h := sha256.New()
				n, err := io.Copy(h, f)
				f.Close()
				if err != nil {
					return fmt.Errorf("reading %s: %w", name, err)
				}
				out = append(out, summed{name, hex.EncodeToString(h.Sum(nil)), n})
			}
		}
		return nil
	}
	err = walk(".")
	slices.SortFunc(out, func(a, b summed) int { return strings.Compare(a.name, b.name) })
	return out, err
}

// download brings an archive's bytes into the cache, going on where an earlier
// try broke off.
func (c *Client) download(ctx context.Context, from, name string, tell func(done, total int64)) (string, error) {
	lim := c.Limits.full()
	ctx, cancel := context.WithTimeoutCause(ctx, lim.Whole, fmt.Errorf("%w: it did not end within %s", ErrTooBig,
		lim.Whole))
	defer cancel()
	part := filepath.Join(c.Dir, name+".part")
	for try := 0; ; try++ {
		whole, err := c.downloadOnce(ctx, from, part, tell)
		if whole {
			return part, nil
		}
		if cause := context.Cause(ctx); cause != nil {
			return "", cause
		}
		if err == nil || try == 3 || errors.Is(err, ErrTooBig) || errors.Is(err, ErrHostile) ||
			errors.Is(err, errAnswer) {
			return "", err
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(try) * time.Second):
		}
	}
}

// errAnswer is an answer that is no archive.
var errAnswer = errors.New("it is not handed out")

// downloadOnce asks for what is still missing.
func (c *Client) downloadOnce(
	ctx context.Context,
	from, part string,
	tell func(done, total int64),
) (whole bool, err error) {
	lim := c.Limits.full()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return false, fmt.Errorf("%w: %w", errAnswer, err)
	}
	have, tag := int64(0), ""
	if fi, err := os.Stat(part); err == nil {
		if b, err := os.ReadFile(part + ".tag"); err == nil { // RFC 9110, 13.1.5
			have, tag = fi.Size(), string(b)
			req.Header.Set("Range", fmt.Sprintf("bytes=%d-", have))
			req.Header.Set("If-Range", tag)
		}
	}
	silent := time.AfterFunc(lim.Silence, func() { cancel(fmt.Errorf("no byte came for %s", lim.Silence)) })
	defer silent.Stop()
	resp, err := c.http().Do(req)
	if err != nil {
		return false, cause(ctx, err)
	}
	defer resp.Body.Close()
	flags := os.O_CREATE | os.O_WRONLY | os.O_TRUNC
	switch resp.StatusCode {
	case http.StatusOK:
		have = 0
	case http.StatusPartialContent:
		flags = os.O_WRONLY | os.O_APPEND
	case http.StatusRequestedRangeNotSatisfiable:
		os.Remove(part)
		return false, errors.New("the archive changed")
	default:
		return false, fmt.Errorf("%w: the server answers %s", errAnswer, resp.Status)
	}
	total := int64(-1)
	if resp.ContentLength >= 0 {
		total = have + resp.ContentLength
	}
	if total > lim.Bytes {
		return false, fmt.Errorf("%w: %s, and at most %s are", ErrTooBig, site.Size(total), site.Size(lim.Bytes))
	}
	if tag = resp.Header.Get("ETag"); strings.HasPrefix(tag, `"`) {
		if err := os.WriteFile(part+".tag", []byte(tag), 0o600); err != nil {
			return false, err
		}
	} else {
		os.Remove(part + ".tag")
	}
	f, err := os.OpenFile(part, flags, 0o600)
	if err != nil {
		return false, err
	}
	defer f.Close()
	m := &meter{r: resp.Body, done: have, total: total, most: lim.Bytes, tell: func(done, total int64) {
		silent.Reset(lim.Silence)
		tell(done, total)
	}}
	if _, err := io.Copy(f, m); err != nil {
		return false, cause(ctx, err)
	}
	return true, f.Close()
}

// cause prefers the reason for which a context ended.
func cause(ctx context.Context, err error) error {
	if c := context.Cause(ctx); c != nil {
		return c
	}
	return err
}

// meter counts what comes, and ends what does not.
type meter struct {
	r                 io.Reader
	done, total, most int64
	tell              func(done, total int64)
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	m.done += int64(n)
	if m.done > m.most {
		return n, fmt.Errorf("%w: more than %s came", ErrTooBig, site.Size(m.most))
	}
	m.tell(m.done, m.total)
	return n, err
}

// checkSums compares a component's files with the sums that the catalogue
// publishes beside its archives, where it does.
func (c *Client) checkSums(ctx context.Context, p Package, from string) error {
	if p.Source.Kind != site.Plugin {
		return nil
	}
	u, err := url.Parse(from)
	if err != nil {
		return err
	}
	u.Path = "/plugin-checksums/" + p.Source.Slug + "/" + p.Source.Version + ".json"
	ctx, cancel := context.WithTimeout(ctx, c.Limits.full().Silence)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return err
	}
	resp, err := c.http().Do(req)
	if err != nil || resp.StatusCode != http.StatusOK {
		if err == nil {
			resp.Body.Close()
		}
		return nil // it publishes none
	}
	defer resp.Body.Close()
	var said struct {
		Files map[string]struct {
			SHA256 any `json:"sha256"`
		} `json:"files"`
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	if err == nil {
		err = json.NewDecoder(bytes.NewReader(b)).Decode(&said)
	}
	if err != nil || len(said.Files) == 0 {
		return nil // not in a form that says anything
	}
	root, err := local.New("cache").Open(ctx, p.Dir)
	if err != nil {
		return err
	}
	defer root.Close()
	list, err := sums(root)
	if err != nil {
		return err
	}
	for _, f := range list {
		want, known := said.Files[f.name]
		if !known || !contains(want.SHA256, f.sum) {
			return fmt.Errorf("%w: %s is not as the catalogue's own sums say", ErrHostile, f.name)
		}
	}
	return nil
}

// contains looks for a sum in one or in a list.
func contains(v any, sum string) bool {
	switch v := v.(type) {
	case string:
		return strings.EqualFold(v, sum)
	case []any:
		return slices.ContainsFunc(v, func(x any) bool { return contains(x, sum) })
	}
	return false
}

// Take puts the files of a root of another site into the cache, as a component
// of that site's.
func (c *Client) Take(ctx context.Context, s site.Source, bring func(to string) error) (Package, error) {
	name := key(s, s.From)
	defer c.lock(name)()
	work := filepath.Join(c.Dir, name+".new")
	if err := os.RemoveAll(work); err != nil {
		return Package{}, err
	}
	into := filepath.Join(work, "files", s.Slug)
	if err := os.MkdirAll(into, 0o700); err != nil {
		return Package{}, err
	}
	defer os.RemoveAll(work)
	if err := bring(into); err != nil {
		return Package{}, fmt.Errorf("%s: %w", s.Text(), err)
	}
	p, err := c.identify(s, filepath.Join(work, "files"), s.Slug)
	if err != nil {
		return p, fmt.Errorf("%s: %w", s.Text(), err)
	}
	return c.keep(p, name, work)
}
