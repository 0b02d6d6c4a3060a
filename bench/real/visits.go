package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"alibi/internal/demo/real"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// visitors ask a live site for its front page, one after the other, and note
// how long each answer took, in seconds.
type visitors struct {
	w    *web.Web
	spec real.Spec
	stop chan struct{}
	wg   sync.WaitGroup
	list []float64
	err  error
}

// pause is how long a visitor waits after an answer.
const pause = 100 * time.Millisecond

func (b *bench) visit(ctx context.Context, w *web.Web, s real.Spec) *visitors {
	v := &visitors{w: w, spec: s, stop: make(chan struct{})}
	v.wg.Go(func() {
		for {
			began := time.Now()
			status, _, err := real.Get(ctx, w, s, "/")
			if err == nil && status != 200 {
				err = fmt.Errorf("the live site answers %d", status)
			}
			if err != nil {
				v.err = err
				return
			}
			v.list = append(v.list, time.Since(began).Seconds())
			select {
			case <-v.stop:
				return
			case <-time.After(pause):
			}
		}
	})
	return v
}

// times are how long answers took, in seconds, the shortest first.
type times []float64

// of gives the time within which a part of them came.
func (t times) of(part float64) float64 { return t[int(part*float64(len(t)-1))] }

func (t times) median() float64 { return t.of(0.5) }

// end gives the answer times.
func (v *visitors) end() (times, error) {
	close(v.stop)
	v.wg.Wait()
	if v.err != nil || len(v.list) == 0 {
		return nil, fmt.Errorf("visiting the live site: %w", v.err)
	}
	slices.Sort(v.list)
	return v.list, nil
}

// during gives the answer times of the live site while do is done.
func (b *bench) during(ctx context.Context, s real.Spec, do func() error) (times, error) {
	run, err := os.MkdirTemp(b.run, "live-")
	if err != nil {
		return nil, err
	}
	w, err := real.Serve(ctx, s, run)
	if err != nil {
		return nil, err
	}
	defer w.Stop()
	for range 3 { // its caches are warm then
		if _, _, err := real.Get(ctx, w, s, "/"); err != nil {
			return nil, err
		}
	}
	v := b.visit(ctx, w, s)
	err = do()
	list, verr := v.end()
	if err != nil {
		return nil, err
	}
	return list, verr
}

// answers measures the live site's answers while nothing is done, while it is
// copied by hand, and while Alibi copies it.
func (b *bench) answers(ctx context.Context) error {
	s, size := b.spec, b.size
	idle, err := b.during(ctx, s, func() error { time.Sleep(5 * time.Second); return nil })
	if err != nil {
		return err
	}
	hand, err := b.during(ctx, s, func() error {
		_, err := b.byHand(ctx, s, 900)
		return err
	})
	if err != nil {
		return err
	}
	var m made
	ours, err := b.during(ctx, s, func() (err error) {
		m, err = b.copy(ctx, size+"-visited", "slipway")
		return err
	})
	if err != nil {
		return err
	}
	fmt.Printf(
		"  the live site's answers meanwhile (medians): %.0f ms before; by hand %.0f ms, %+.0f %%; Alibi %.0f "+
			"ms, %+.0f %%\n",
		idle.median()*1000,
		hand.median()*1000,
		(hand.median()/idle.median()-1)*100,
		ours.median()*1000,
		(ours.median()/idle.median()-1)*100,
	)
	return b.remove(ctx, m.site)
}

// pages compares pages of a copy with its origin's, by HTTP.
func (b *bench) pages(ctx context.Context, s real.Spec, copied site.Site) error {
	run, err := os.MkdirTemp(b.run, "pages-")
	if err != nil {
		return err
	}
	w, err := real.Serve(ctx, s, run)
	if err != nil {
		return err
	}
	defer w.Stop()
	keeper := exec.CommandContext(ctx, b.alibi, "--home", b.home, "keeper")
	keeper.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := keeper.Start(); err != nil {
		return err
	}
	defer func() {
		_ = keeper.Process.Signal(syscall.SIGTERM)
		_ = keeper.Wait()
	}()
	same, list := 0, []string{"/", "/?p=5", "/?p=12", "/?p=33", "/wp-json/wp/v2/posts?per_page=5", "/?s=harbour"}
	for _, path := range list {
		_, want, err := real.Get(ctx, w, s, path)
		if err != nil {
			return err
		}
		got, err := page(ctx, copied, path)
		if err != nil {
			return err
		}
		if diff := real.SamePage(want, got, s.URL, copied.Address().String()); diff != "" {
			fmt.Printf("  page %s: %s\n", path, diff)
			continue
		}
		same++
	}
	fmt.Printf("  pages: %d of %d equal the origin's apart from addresses and marks\n", same, len(list))
	return nil
}

// page asks a copy for a page, following where it leads, and waiting for the
// gateway to come up.
func page(ctx context.Context, s site.Site, path string) (string, error) {
	c := &http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
			},
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	var last error
	for range 50 {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address().String()+path, nil)
		if err != nil {
			return "", err
		}
		resp, err := c.Do(req)
		if err == nil {
			defer resp.Body.Close()
			text, err := io.ReadAll(resp.Body)
			return string(text), err
		}
		last = err
		time.Sleep(100 * time.Millisecond)
	}
	return "", fmt.Errorf("asking %s: %w", filepath.Join(s.Name, path), last)
}
