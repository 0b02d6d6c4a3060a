package relay

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/host/trust"
	"alibi/internal/tables"
)

// Name makes a name for a relay's file, which nobody can guess. What reads a site passes it by.
func Name() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return host.RelayPrefix + hex.EncodeToString(b[:]) + ".php"
}

// ParseAddress reads the address of a relay: that at which a folder answers, and behind a "#" the digest of the key
// that is accepted of it, whoever signed it ("https://ferry.example#SHA256:...").
func ParseAddress(s string) (address *url.URL, pin string, err error) {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.RawQuery != "" || u.User != nil ||
		u.Fragment != "" && !strings.HasPrefix(u.Fragment, "SHA256:") {
		return nil, "", fmt.Errorf("%q can't be the address of a relay: name the one at which the folder answers, such as "+
			"https://ferry.example", s)
	}
	pin, u.Fragment, u.Path = u.Fragment, "", strings.TrimRight(u.Path, "/")
	return u, pin, nil
}

// Put puts a relay with a name into a site's folder, which answers at an address, and sees that it speaks to the
// database. First a file without any secret shows that the address is this folder's and runs PHP. What can't be used is
// removed again. also are other machines than the one to which the address's name leads on which that may be.
func Put(ctx context.Context, root host.Root, address, name string, s Server, also ...string) (*Relay, error) {
	u, pin, err := ParseAddress(address)
	if err != nil {
		return nil, err
	}
	var first error
	for _, at := range append([]string{""}, also...) {
		r := &Relay{url: u.String() + "/" + name, key: newKey(), client: trust.Client(u, at, pin),
			until: time.Now().Add(Life), writes: s.Writes}
		perm, err := r.try(ctx, root, u.String())
		if err == nil {
			return r, r.put(ctx, root, name, perm, s)
		}
		r.client.CloseIdleConnections()
		if first == nil {
			first = err
		}
		if ctx.Err() != nil || !errors.Is(err, ErrElsewhere) && !errors.Is(err, tables.ErrAway) {
			break
		}
	}
	if errors.Is(first, host.ErrHostKey) {
		first = fmt.Errorf("%w; if the host's keeper names this key, accept it behind the address, as in %s#SHA256:KEY",
			first, u)
	}
	return nil, first
}

func (r *Relay) put(ctx context.Context, root host.Root, name string, perm fs.FileMode, s Server) error {
	_, err := host.Put(root, name, perm, time.Time{}, strings.NewReader(script(r.key, s, r.until)))
	if err != nil {
		return fmt.Errorf("putting the relay: %w", err)
	}
	if err := r.Answers(ctx); err != nil {
		return errors.Join(err, Remove(root, name))
	}
	return nil
}

// perms are the modes with which a file is tried: as few as possible may read what it holds.
var perms = []fs.FileMode{0o600, 0o640, 0o644}

// try gives the mode with which the web server's PHP can read a file of ours.
func (r *Relay) try(ctx context.Context, root host.Root, address string) (fs.FileMode, error) {
	var last error
	for _, perm := range perms {
		name := Name()
		word := strings.TrimSuffix(strings.TrimPrefix(name, host.RelayPrefix), ".php")
		_, err := host.Put(root, name, perm, time.Time{}, strings.NewReader("<?php echo strrev('"+word+"');\n"))
		if err != nil {
			return 0, fmt.Errorf("putting a file that shows whether PHP runs: %w", err)
		}
		text, status, err := r.get(ctx, address+"/"+name)
		if rerr := root.Remove(name); rerr != nil {
			return 0, fmt.Errorf("removing %s again: %w", name, rerr)
		}
		switch {
		case err != nil:
			return 0, err
		case text == reversed(word):
			return perm, nil
		case strings.Contains(text, "<?php"):
			return 0, fmt.Errorf("%s: %w", address, ErrNoPHP)
		}
		last = fmt.Errorf("%s: %w: asked for a file that was put into %s it answers %d; name the address that shows "+
			"this folder", address, ErrElsewhere, root.Path(), status)
	}
	return 0, last
}

func reversed(s string) string {
	b := []byte(s)
	for i, j := 0, len(b)-1; i < j; i, j = i+1, j-1 {
		b[i], b[j] = b[j], b[i]
	}
	return string(b)
}

func (r *Relay) get(ctx context.Context, url string) (text string, status int, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", 0, err
	}
	res, err := r.client.Do(req)
	if err != nil {
		return "", 0, r.away(ctx, err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 1<<16))
	if err != nil {
		return "", 0, r.away(ctx, err)
	}
	return string(b), res.StatusCode, nil
}

// Remove removes a relay's files; those that are gone are no error.
func Remove(root host.Root, name string) error {
	begun := strings.TrimSuffix(name, ".php")
	list := []string{name, begun + ".seen"} // the relay first: what somebody removed writes nothing any more
	there, err := root.ReadDir(".")
	if err != nil {
		return fmt.Errorf("looking for what a relay left: %w", err)
	}
	for _, e := range there {
		if strings.HasPrefix(e.Name(), begun+"-") {
			list = append(list, e.Name())
		}
	}
	var all error
	for _, n := range list {
		if err := root.Remove(n); err != nil && !errors.Is(err, fs.ErrNotExist) {
			all = errors.Join(all, fmt.Errorf("removing %s: %w", n, err))
		}
	}
	return all
}
