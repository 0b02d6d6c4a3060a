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
	"strings"
	"time"

	"alibi/internal/host"
)

// Name makes a name for a relay's file, which nobody can guess. What reads a site passes it by.
func Name() string {
	var b [12]byte
	_, _ = rand.Read(b[:])
	return host.RelayPrefix + hex.EncodeToString(b[:]) + ".php"
}

// Put puts a relay with a name into a site's folder, which answers at an address, and sees that it speaks to the
// database. First a file without any secret shows that the address is this folder's and runs PHP. What can't be used is
// removed again.
func Put(ctx context.Context, root host.Root, address, name string, s Server) (*Relay, error) {
	address = strings.TrimRight(address, "/")
	r := &Relay{url: address + "/" + name, key: newKey(), client: client(), until: time.Now().Add(Life)}
	perm, err := r.try(ctx, root, address)
	if err != nil {
		return nil, err
	}
	text := script(r.key, s, r.until)
	if _, err := host.Put(root, name, perm, time.Time{}, strings.NewReader(text)); err != nil {
		return nil, fmt.Errorf("putting the relay: %w", err)
	}
	if err := r.Answers(ctx); err != nil {
		return nil, errors.Join(err, Remove(root, name))
	}
	return r, nil
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
	var all error
	for _, n := range []string{name, strings.TrimSuffix(name, ".php") + ".seen"} {
		if err := root.Remove(n); err != nil && !errors.Is(err, fs.ErrNotExist) {
			all = errors.Join(all, fmt.Errorf("removing %s: %w", n, err))
		}
	}
	return all
}
