package web_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// page answers with what the code may do.
const page = `<?php
if (isset($_GET['mail'])) { var_dump(mail('a@b.example', 'Hello', 'text')); exit; }
if (isset($_GET['read'])) { echo @file_get_contents($_GET['read']) === false ? 'refused' : 'read'; exit; }
if (isset($_GET['files'])) { echo posix_getrlimit()['soft openfiles']; exit; }
if (isset($_GET['fail'])) { nothing_is_called_this(); }
echo PHP_VERSION, ' ', ini_get('memory_limit'), ' ', ini_get('upload_max_filesize'), ' ',
	ini_get('max_execution_time'), ' ', $_SERVER['REQUEST_URI'], ' ', $_SERVER['HTTP_HOST'];
`

// closed are files that are neither shown nor run.
var closed = []string{".secret", ".env", ".user.ini", "media/uploads/run.php", "media/uploads/run.PHP5",
	"index.php.bak", "settings.php~", "settings.php.old", "settings.inc", "old.phtml", "dump.sql", "dump.sql.gz",
	"id.pem",
	"server.key", "site.zip", "site.tar.gz", "debug.log", "deploy.yml", "run.sh", "x.php_2024"}

// siteAt writes a small site.
func siteAt(t *testing.T) (root, run string) {
	t.Helper()
	root = filepath.Join(t.TempDir(), "now", "site")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "wp-content"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "media/uploads"), 0o755))
	texts := map[string]string{"index.php": page, "style.css": "body{}", "wp-content/a.css": "a{}",
		"media/uploads/tide.zip": "PK", "sitemap.xml.gz": "gz"}
	for _, name := range closed {
		texts[name] = "<?php echo 'hidden';"
	}
	for name, text := range texts {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	run, err := os.MkdirTemp("", "alibi-web-")
	require.NoError(t, err)
	t.Cleanup(func() {
		process.Reap(run)
		os.RemoveAll(run)
	})
	return root, run
}

type dialer interface {
	Dial(ctx context.Context) (net.Conn, error)
}

func dial(d dialer) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, _, _ string) (net.Conn, error) { return d.Dial(ctx) }
}

func get(t *testing.T, d dialer, path string) (int, string, http.Header) {
	t.Helper()
	c := &http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       dial(d),
		},
	}
	resp, err := c.Get("http://winter.localhost:7700" + path)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b), resp.Header
}

// serves wants of a running site what a web server does.
func serves(t *testing.T, d dialer, root, mail string) {
	t.Helper()
	status, text, _ := get(t, d, "/some/page/?x=1")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, " 77M 5M 33 /some/page/?x=1 winter.localhost:7700")
	status, text, h := get(t, d, "/style.css")
	assert.Equal(t, 200, status)
	assert.Equal(t, "body{}", text)
	assert.Contains(t, h.Get("Content-Type"), "text/css")
	for _, name := range closed {
		status, text, _ = get(t, d, "/"+name)
		assert.Equal(t, 403, status, name)
		assert.NotContains(t, text, "hidden", name)
	}
	for _, name := range []string{"media/uploads/tide.zip", "sitemap.xml.gz"} {
		status, _, _ = get(t, d, "/"+name)
		assert.Equal(t, 200, status, name)
	}
	_, text, _ = get(t, d, "/?read="+filepath.Join(root, "style.css"))
	assert.Equal(t, "read", text)
	secret := filepath.Join(root, "../../secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("deep water"), 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(root, "link.txt")))
	for _, outside := range []string{"/etc/hostname", secret, filepath.Join(root, "link.txt")} {
		_, text, _ = get(t, d, "/?read="+outside)
		assert.Equal(t, "refused", text, "the code keeps to its own folders")
	}
	_, text, _ = get(t, d, "/?mail=1")
	assert.Contains(t, text, "bool(true)")
	require.Eventually(t, func() bool {
		list, _ := filepath.Glob(filepath.Join(mail, "sendmail-*.eml"))
		if len(list) != 1 {
			return false
		}
		b, err := os.ReadFile(list[0])
		return err == nil && strings.Contains(string(b), "Subject: Hello")
	}, 60*time.Second, 10*time.Millisecond, "mail is caught")
	status, text, _ = get(t, d, "/?fail=1")
	assert.Equal(t, 500, status)
	assert.NotContains(t, text, "nothing_is_called_this", "errors are not shown unless asked for")
}

func eight(t *testing.T) php.PHP {
	t.Helper()
	p, ok := php.Choose(php.Find(context.Background()), "8.2")
	require.True(t, ok, "these tests need PHP 8.2 (make needs)")
	return p
}

func TestBehindNginxAndAlone(t *testing.T) {
	both := eight(t)
	alone := both
	alone.FPM = ""
	for name, p := range map[string]php.PHP{"php-fpm behind nginx": both, "PHP's own server": alone} {
		for _, sealed := range []*web.Sealed{nil, {ID: "c1", Names: []string{"copy.localhost"}, Port: "8088"}} {
			t.Run(fmt.Sprintf("%s, sealed %t", name, sealed != nil), func(t *testing.T) {
				root, run := siteAt(t)
				mail := filepath.Join(filepath.Dir(root), "caught")
				w, err := web.Start(
					web.Spec{
						Run:     run,
						Root:    root,
						Mail:    mail,
						PHP:     p,
						Memory:  "77M",
						Upload:  "5M",
						RunTime: 33 * time.Second,
						Sealed:  sealed,
					},
				)
				require.NoError(t, err)
				assert.Equal(t, name, w.Kind)
				serves(t, w, root, mail)
				if sealed != nil {
					_, text, _ := get(t, w, "/link.txt")
					assert.NotContains(t, text, "deep water", "a link leads to nothing outside")
				}
				b, err := os.ReadFile(w.ErrorLog())
				require.NoError(t, err)
				assert.Contains(t, string(b), "nothing_is_called_this", "they are in the log")
				w.Stop()
				assert.Eventually(t, func() bool { return len(process.Left(run)) == 0 }, 60*time.Second,
					5*time.Millisecond)
				select {
				case <-w.Gone():
				case <-time.After(time.Minute):
					t.Fatal("it is not known to be gone")
				}
				_, err = w.Dial(context.Background())
				assert.Error(t, err)
			})
		}
	}
}

func TestAProgramThatDiesIsNoticed(t *testing.T) {
	root, run := siteAt(t)
	w, err := web.Start(web.Spec{Run: run, Root: root, PHP: eight(t)})
	require.NoError(t, err)
	defer w.Stop()
	process.Reap(run)
	select {
	case <-w.Gone():
	case <-time.After(time.Minute):
		t.Fatal("nobody noticed")
	}
}

func TestNoPHP(t *testing.T) {
	root, run := siteAt(t)
	_, err := web.Start(web.Spec{Run: run, Root: root})
	assert.ErrorIs(t, err, web.ErrNoPHP)
	_, err = remote.Start(context.Background(), local.New("pier"), web.Spec{Run: run, Root: root})
	assert.ErrorIs(t, err, web.ErrNoPHP)
}

func TestOnAnotherHost(t *testing.T) {
	for name, sealed := range map[string]*web.Sealed{"open": nil,
		"sealed": {ID: "c1", Names: []string{"copy.localhost"}, Bounds: site.Bounds{Files: 777}}} {
		t.Run(name, func(t *testing.T) { onAnotherHost(t, sealed) })
	}
}

func onAnotherHost(t *testing.T, sealed *web.Sealed) {
	root, _ := siteAt(t)
	ctx := context.Background()
	h := local.New("pier")
	found, err := remote.Find(ctx, h)
	require.NoError(t, err)
	p, ok := php.Choose(found, "8.2")
	require.True(t, ok)
	now := filepath.Dir(root)
	mail := filepath.Join(now, "caught")
	require.NoError(t, os.MkdirAll(mail, 0o700))
	x, err := remote.Start(
		ctx,
		h,
		web.Spec{
			Run:     filepath.Join(now, "run"),
			Root:    root,
			Mail:    mail,
			PHP:     p,
			Memory:  "77M",
			Upload:  "5M",
			RunTime: 33 * time.Second,
			Sealed:  sealed,
		},
	)
	require.NoError(t, err)
	serves(t, x, root, mail)
	if sealed != nil {
		_, text, _ := get(t, x, "/link.txt")
		assert.NotContains(t, text, "deep water", "a link leads to nothing outside")
		_, text, _ = get(t, x, "/?read="+wall.Mark)
		assert.Equal(t, "read", text, "it knows that it is in a world")
		_, text, _ = get(t, x, "/?files=1")
		assert.Equal(t, "777", text, "its bounds")
	}
	x.Stop()
	select {
	case <-x.Gone():
	case <-time.After(time.Minute):
		t.Fatal("it still runs")
	}
	_, err = x.Dial(ctx)
	assert.Error(t, err, "nothing stays behind")
}
