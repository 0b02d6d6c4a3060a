package real

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strconv"

	"alibi/internal/runtime/php"
	"alibi/internal/runtime/web"
)

// Serve runs a site as it is in the world, on the system's PHP.
func Serve(ctx context.Context, s Spec, run string) (*web.Web, error) {
	return ServeAs(ctx, s, run, "")
}

// ServeAs runs it as an account, where we are root.
func ServeAs(ctx context.Context, s Spec, run, account string) (*web.Web, error) {
	versions, err := PHPs(ctx)
	if err != nil {
		return nil, err
	}
	p, _ := php.Choose(versions, "8.2")
	w, err := web.Start(web.Spec{Run: run, Root: s.Root, PHP: p, User: account,
		SubDirs: s.Network != nil && !s.SubDomains})
	if err != nil || os.Getuid() != 0 {
		return w, err
	}
	if u, err := user.Lookup(account); err == nil { // what is uploaded is written there by that account
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		err = os.Chown(filepath.Join(run, "tmp"), uid, gid)
		return w, err
	}
	return w, nil
}

// Get asks a running site for a page of its own address.
func Get(ctx context.Context, w *web.Web, s Spec, path string) (status int, page string, err error) {
	u, err := url.Parse(s.URL)
	if err != nil {
		return 0, "", err
	}
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return w.Dial(ctx) },
		}}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+u.Host+path, nil)
	if err != nil {
		return 0, "", err
	}
	if u.Scheme == "https" {
		req.Header.Set("Alibi-Https", "on")
	}
	resp, err := c.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b), err
}

// visit has the CMS write down what it does when somebody comes for the first
// time, as it has on every site in the world.
func visit(ctx context.Context, s Spec) error {
	run, err := os.MkdirTemp("", "alibi-visit-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(run)
	w, err := Serve(ctx, s, run)
	if err != nil {
		return err
	}
	defer w.Stop()
	for _, p := range []string{"/", "/post-0/", "/page-0/", "/wp-login.php", "/feed/", "/no-such-page/"} {
		status, _, err := Get(ctx, w, s, p)
		if err == nil && status >= 500 {
			err = fmt.Errorf("it answers %d", status)
		}
		if err != nil {
			return fmt.Errorf("visiting %s%s: %w", s.URL, p, err)
		}
	}
	return nil
}
