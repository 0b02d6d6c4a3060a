package relaytest

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/local"
)

const fpmConf = `[global]
error_log = %[1]s/fpm.log
daemonize = no
[site]
%[2]s
listen = %[1]s/fpm.sock
pm = static
pm.max_children = 4
php_admin_value[memory_limit] = 32M
php_admin_value[max_execution_time] = 10
php_admin_value[post_max_size] = 1M
`

const apacheConf = `ServerRoot %[1]s
PidFile %[1]s/apache.pid
ErrorLog %[1]s/apache.log
ServerName localhost
Listen %[3]s
%[4]s
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule proxy_module /usr/lib/apache2/modules/mod_proxy.so
LoadModule proxy_fcgi_module /usr/lib/apache2/modules/mod_proxy_fcgi.so
LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so
DocumentRoot %[2]s
<Directory %[2]s>
    Require all granted
    AllowOverride All
</Directory>
<FilesMatch "\.php$">
    SetHandler "proxy:unix:%[1]s/fpm.sock|fcgi://localhost"
</FilesMatch>
`

// ServeByApache shows a new folder by Apache with PHP-FPM behind it, within the bounds of a small host: 32 MiB and 10 s
// a request.
func ServeByApache(t testing.TB) (root host.Root, address string) {
	t.Helper()
	run, dir := t.TempDir(), t.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	fpmAs, apacheAs := "", ""
	if os.Getuid() == 0 { // neither serves as root
		fpmAs = "user = www-data\ngroup = www-data\nlisten.owner = www-data"
		apacheAs = "User www-data\nGroup www-data"
		require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	}
	write := func(name, text string) string {
		p := filepath.Join(run, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		return p
	}
	start(t, exec.Command("php-fpm8.2", "-F", "-y", write("fpm.conf", fmt.Sprintf(fpmConf, run, fpmAs))), nil)
	conf := write("apache.conf", fmt.Sprintf(apacheConf, run, dir, at, apacheAs))
	start(t, exec.Command("apache2", "-X", "-f", conf), nil)
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(run, "fpm.sock"))
		conn, derr := net.Dial("tcp", at)
		if derr == nil {
			conn.Close()
		}
		return err == nil && derr == nil
	}, 20*time.Second, 20*time.Millisecond)
	root, err = local.New("here").Write(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root, "http://" + at
}
