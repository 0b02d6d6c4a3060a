package wall_test

import (
	"context"
	"database/sql"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/wall"
	"alibi/internal/tables"
)

func TestMain(m *testing.M) { mariadbtest.Main(m) }

// carried gives a socket from which connections are carried for one account alone.
func carried(t *testing.T, account string, tell func(wall.Call)) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "wall")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "d.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	d := &wall.Database{Account: account, Tell: tell, Dial: func(ctx context.Context) (net.Conn, error) {
		return new(net.Dialer).DialContext(ctx, "unix", mariadbtest.Socket())
	}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				d.Serve(c)
			}()
		}
	}()
	return socket
}

// carriedByPHP is the same, as it is done on other hosts: by a program in PHP. It tells nobody.
func carriedByPHP(t *testing.T, account string, _ func(wall.Call)) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "wall")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "d.sock")
	cmd := exec.Command("php", "-n", "../web/carrier.php", "unix://"+socket, "unix://"+mariadbtest.Socket())
	cmd.Env = []string{"ALIBI_ACCOUNT=" + account, "PATH=/usr/bin:/bin"}
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		_, err := os.Stat(socket)
		return err == nil
	}, time.Minute, 5*time.Millisecond)
	return socket
}

func TestOneAccountAloneReachesTheDatabase(t *testing.T) {
	t.Run("here", func(t *testing.T) { oneAccountAlone(t, carried, true) })
	t.Run("on other hosts", func(t *testing.T) { oneAccountAlone(t, carriedByPHP, false) })
}

func oneAccountAlone(t *testing.T, carried func(*testing.T, string, func(wall.Call)) string, tells bool) {
	ctx := context.Background()
	root := mariadbtest.Root()
	for name, password := range map[string]string{"own_1": "salt water", "live_1": "deep water"} {
		require.NoError(t, root.MakeDatabase(ctx, name, "utf8mb4", "utf8mb4_general_ci",
			tables.Account{Name: name, Password: password, From: []string{"localhost"}}))
	}
	var mu sync.Mutex
	var told []string
	socket := carried(t, "own_1", func(c wall.Call) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, c.Host)
	})
	open := func(account, password, database string) *sql.DB {
		db, err := sql.Open("mysql", account+":"+password+"@unix("+socket+")/"+database)
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		return db
	}
	own := open("own_1", "salt water", "own_1")
	_, err := own.ExecContext(ctx, "CREATE OR REPLACE TABLE t (n INT PRIMARY KEY, b LONGBLOB)")
	require.NoError(t, err)
	// more than one packet of the protocol holds, and its word for another account
	large := strings.Repeat("\x11tide", 4<<20)
	_, err = own.ExecContext(ctx, "INSERT INTO t VALUES (1, ?)", large)
	require.NoError(t, err)
	var back string
	require.NoError(t, own.QueryRowContext(ctx, "SELECT b FROM t").Scan(&back))
	assert.True(t, large == back, "what is said comes through as it is")
	_, err = own.ExecContext(ctx, "USE live_1")
	assert.Error(t, err, "its account sees its database alone")

	for _, account := range []string{"live_1", "root"} {
		err := open(account, map[string]string{"live_1": "deep water"}[account], "").PingContext(ctx)
		var e *mysql.MySQLError
		require.ErrorAs(t, err, &e, account)
		assert.Equal(t, uint16(1045), e.Number)
		assert.Contains(t, e.Message, "the copy's wall lets in its own account alone")
	}
	if tells {
		assert.Equal(t, []string{"live_1", "root"}, told)
	}
	assert.Contains(t, changeUser(t, socket), "lets in its own account alone", "nor does it become another later")
	if tells {
		assert.Equal(t, []string{"live_1", "root", "live_1"}, told)
	}
}

// changeUser asks for another account in the midst of a connection, and gives the answer.
func changeUser(t *testing.T, socket string) string {
	t.Helper()
	out, err := exec.Command("php", "-r", `mysqli_report(MYSQLI_REPORT_OFF);
$db = mysqli_connect('localhost', 'own_1', 'salt water', 'own_1', null, $argv[1]);
if (!$db) { exit('no connection: ' . mysqli_connect_error()); }
echo @mysqli_change_user($db, 'live_1', 'deep water', 'live_1') ? 'it is another now' : mysqli_error($db);`, "--",
		socket).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}
