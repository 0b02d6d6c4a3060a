package realtest

import (
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// Account is whose the live sites of tests are, and as whom their web servers
// run: not ours. Where the tests do not run as root it is ours after all.
const Account = "www-data"

// Live is a live site on the air: its web server answers at its address on this
// machine.
type Live struct {
	Site site.Site
	Spec real.Spec
	t    testing.TB
	port string
}

// Live sets up a site that belongs to Account, adds it, and serves it.
func (w *World) Live(name string, change ...func(*real.Spec)) *Live {
	w.T.Helper()
	dir, err := os.MkdirTemp("", "alibi-live-")
	require.NoError(w.T, err)
	require.NoError(w.T, os.Chmod(dir, 0o755)) // other accounts go through it
	run := filepath.Join(dir, "run")
	require.NoError(w.T, os.Mkdir(run, 0o755))
	w.T.Cleanup(func() {
		process.Reap(run)
		os.RemoveAll(dir)
	})
	ln := demotest.Listen(w.T, 20000+int(crc32.ChecksumIEEE([]byte(name))%12000))
	w.T.Cleanup(func() { ln.Close() })
	_, port, err := net.SplitHostPort(ln.Addr().String())
	require.NoError(w.T, err)
	l := &Live{t: w.T, port: port}
	l.Site = w.Make(name, append(change, func(s *real.Spec) {
		s.Root = filepath.Join(dir, name)
		s.URL = "http://" + name + ".skerryline.example:" + l.port
		l.Spec = *s
	})...)
	require.NoError(w.T, os.Chmod(filepath.Join(l.Spec.Root, "wp-config.php"), 0o640))
	if os.Getuid() == 0 {
		out, err := exec.Command("chown", "-R", Account+":"+Account, l.Spec.Root, run).CombinedOutput()
		require.NoError(w.T, err, string(out))
	}
	web, err := real.ServeAs(context.Background(), l.Spec, run, Account)
	require.NoError(w.T, err)
	w.T.Cleanup(web.Stop)
	go Answer(ln, web)
	require.Equal(w.T, 200, l.Get("/"))
	return l
}

// Answer has a web server answer at a port, until that is closed.
func Answer(ln net.Listener, web *web.Web) {
	for {
		c, err := ln.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			to, err := web.Dial(context.Background())
			if err != nil {
				return
			}
			defer to.Close()
			go func() { _, _ = io.Copy(to, c) }()
			_, _ = io.Copy(c, to)
		}()
	}
}

// Get asks for a page as a visitor does, and gives the status; 0 for no answer.
func (l *Live) Get(path string) int {
	status, _ := l.Page(path)
	return status
}

// Page asks for a page and gives what it says too.
func (l *Live) Page(path string) (int, string) {
	c := &http.Client{
		Timeout: 30 * time.Second,
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext: func(ctx context.Context, n, _ string) (net.Conn, error) {
				var d net.Dialer
				return d.DialContext(ctx, n, "127.0.0.1:"+l.port)
			},
		},
	}
	resp, err := c.Get(l.Spec.URL + path)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body) // what broke off is seen by what is there
	return resp.StatusCode, string(b)
}

// Waits are what visitors had to wait for. Others ask the same server for what nothing of ours
// has to do with, so that a machine that is slow or busy is told from a site that is held up.
type Waits struct {
	Longest time.Duration // of the site's visitors
	Others  time.Duration // the longest of the others
	Came    int
}

// Within is how long at most a visitor of this machine, as slow as it was, may wait who would wait
// for at most d on an idle one.
func (w Waits) Within(d time.Duration) time.Duration { return d + 3*w.Others }

// Visit has visitors come until the function that it gives is called: they ask for
// pages, and read and, if writes is set, write a table of the site, one of them
// slowly. It then tells how long they had to wait.
func (l *Live) Visit(table string, writes bool) (stop func() Waits) {
	ctx, cancel := context.WithCancel(context.Background())
	var mu sync.Mutex
	var w Waits
	var all sync.WaitGroup
	waits := func(longest *time.Duration, every time.Duration, what func() error) {
		all.Go(func() {
			for ctx.Err() == nil {
				began := time.Now()
				err := what()
				mu.Lock()
				*longest = max(*longest, time.Since(began))
				w.Came++
				mu.Unlock()
				if err != nil && ctx.Err() == nil {
					l.t.Errorf("a visitor: %v", err)
				}
				time.Sleep(every)
			}
		})
	}
	site := func(every time.Duration, what func() error) { waits(&w.Longest, every, what) }
	says := func(db tables.Writable, q string) func() error {
		return func() error { return db.Exec(context.Background(), q) }
	}
	db := mariadbtest.DB(l.Spec.Database)
	site(50*time.Millisecond, func() error {
		if status := l.Get("/"); status != 200 && status != 503 {
			return fmt.Errorf("the first page answers %d", status)
		}
		return nil
	})
	site(20*time.Millisecond, says(db, "SELECT 1 FROM "+table+" LIMIT 1"))
	if writes {
		site(100*time.Millisecond, says(db, "UPDATE "+table+" SET n = n + 1 LIMIT 1"))
	}
	site(200*time.Millisecond, says(db, "SELECT SLEEP(0.4) FROM "+table+" LIMIT 1"))
	others := mariadbtest.DB("mysql") // the server's own
	waits(&w.Others, 200*time.Millisecond, says(others, "SELECT BENCHMARK(40000, MD5('tide')) FROM db LIMIT 1"))
	return func() Waits {
		cancel()
		all.Wait()
		return w
	}
}
