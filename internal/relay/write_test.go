package relay_test

import (
	"context"
	"crypto/md5"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/trust"
	"alibi/internal/relay"
	"alibi/internal/relay/relaytest"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

// writing puts a relay that writes into a folder of its own, and opens a new database through it.
func writing(t *testing.T) (r *relay.Relay, root host.Root, name string, db, direct *sql.DB) {
	t.Helper()
	ctx := context.Background()
	root, address := relaytest.Serve(t, "php", "-d", "post_max_size=1M")
	name = relay.Name()
	s := server()
	s.Writes = true
	r, err := relay.Put(ctx, root, address, name, s)
	require.NoError(t, err)
	direct, err = sql.Open("mysql", "root@unix("+mariadbtest.Socket()+")/")
	require.NoError(t, err)
	t.Cleanup(func() { direct.Close() })
	direct.SetMaxOpenConns(1)
	for _, q := range []string{"DROP DATABASE IF EXISTS written", "CREATE DATABASE written", "USE written",
		"CREATE TABLE a (id INT PRIMARY KEY, v LONGTEXT) ENGINE=InnoDB"} {
		_, err := direct.Exec(q)
		require.NoError(t, err)
	}
	db = sql.OpenDB(r.Connector("written", []string{"SET NAMES utf8mb4"}))
	t.Cleanup(func() { db.Close() })
	return r, root, name, db, direct
}

func rowsOf(t *testing.T, direct *sql.DB) (n int) {
	t.Helper()
	require.NoError(t, direct.QueryRow("SELECT COUNT(*) FROM a").Scan(&n))
	return n
}

// A transaction that is larger than what a host takes at once is brought in pieces, and is one all the same.
func TestALongTransaction(t *testing.T) {
	r, root, name, db, direct := writing(t)
	long := func(last string) error {
		tx, err := db.Begin()
		require.NoError(t, err)
		for i := range 40 {
			_, err := tx.Exec("INSERT INTO a VALUES (?, ?)", i, strings.Repeat("ebb and flow ", 10_000))
			require.NoError(t, err)
		}
		_, err = tx.Exec(last)
		require.NoError(t, err)
		return tx.Commit()
	}
	require.ErrorContains(t, long("INSERT INTO a VALUES (7, 'twice')"), "Duplicate")
	assert.Zero(t, rowsOf(t, direct), "all or nothing")
	kept := strings.TrimSuffix(name, ".php") + "-1.php"
	there, err := root.Lstat(kept)
	require.NoError(t, err)
	assert.Greater(t, there.Size(), int64(1<<20))
	res, err := http.Get(strings.TrimSuffix(r.URL(), name) + kept) //nolint:noctx // a test's
	require.NoError(t, err)
	shown, err := io.ReadAll(res.Body)
	require.NoError(t, errors.Join(err, res.Body.Close()))
	assert.Empty(t, shown, "nobody is shown what is kept")
	require.NoError(t, long("UPDATE a SET v = CONCAT(v, '!') WHERE id = 39"))
	assert.Equal(t, 40, rowsOf(t, direct))
	gone, err := db.Exec("DELETE FROM a WHERE id < 30")
	require.NoError(t, err)
	n, err := gone.RowsAffected()
	require.NoError(t, err)
	assert.EqualValues(t, 30, n)
	require.NoError(t, relay.Remove(root, name))
	list, err := root.ReadDir(".")
	require.NoError(t, err)
	assert.Empty(t, list, "what failed is removed with the relay")
}

// What waits for its turn in a relay that somebody removes writes nothing any more.
func TestWhatWasRemovedWritesNothing(t *testing.T) {
	_, root, name, db, direct := writing(t)
	lock := fmt.Sprintf("'alibi %x'", md5.Sum([]byte("written")))
	var got int
	require.NoError(t, direct.QueryRow("SELECT GET_LOCK("+lock+", 5)").Scan(&got))
	require.Equal(t, 1, got)
	ended := make(chan error)
	go func() {
		_, err := db.Exec("INSERT INTO a VALUES (1, 'late')")
		ended <- err
	}()
	require.Eventually(t, func() bool {
		var n int
		require.NoError(t, direct.QueryRow("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE STATE = 'User lock'").
			Scan(&n))
		return n == 1
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, relay.Remove(root, name))
	_, err := direct.Exec("DO RELEASE_LOCK(" + lock + ")")
	require.NoError(t, err)
	assert.ErrorContains(t, <-ended, "removed meanwhile")
	assert.Zero(t, rowsOf(t, direct))
}

// A relay of which no answer came may be at work still: it is not used any more.
func TestARelayWithoutAnAnswerIsGivenUp(t *testing.T) {
	r, _, _, db, direct := writing(t)
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	_, err := db.ExecContext(ctx, "INSERT INTO a SELECT 1, SLEEP(3)")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Zero(t, r.Left())
	assert.Zero(t, rowsOf(t, direct))
}

// A relay that is at work is not taken off for being idle.
func TestARelayAtWorkIsNotIdle(t *testing.T) {
	r, _, _, db, _ := writing(t)
	done := make(chan error)
	go func() {
		_, err := db.Exec("INSERT INTO a SELECT 1, SLEEP(1)")
		done <- err
	}()
	time.Sleep(500 * time.Millisecond)
	assert.Zero(t, r.Idle())
	require.NoError(t, <-done)
	time.Sleep(50 * time.Millisecond)
	assert.Positive(t, r.Idle())
	assert.Less(t, r.Idle(), time.Second)
}

// A host whose certificate nobody signed is refused, and taken where a person accepts its key.
func TestACertificateThatIsAcceptedByName(t *testing.T) {
	ctx := context.Background()
	root, address := relaytest.Serve(t, "php")
	to, err := url.Parse(address)
	require.NoError(t, err)
	front := httptest.NewTLSServer(httputil.NewSingleHostReverseProxy(to))
	t.Cleanup(front.Close)
	_, err = relay.Put(ctx, root, front.URL, relay.Name(), server())
	require.ErrorIs(t, err, host.ErrHostKey)
	print := trust.Fingerprint(front.Certificate())
	assert.ErrorContains(t, err, print, "it says which key that is")
	_, err = relay.Put(ctx, root, front.URL+"#SHA256:other", relay.Name(), server())
	require.ErrorIs(t, err, host.ErrHostKey)
	_, err = relay.Put(ctx, root, front.URL+"#"+print, relay.Name(), server())
	require.NoError(t, err)
	_, port, _ := strings.Cut(strings.TrimPrefix(front.URL, "https://"), ":")
	_, err = relay.Put(ctx, root, "https://moor.example:"+port+"#"+print, relay.Name(), server(), "127.0.0.1")
	require.NoError(t, err, "its name leads nowhere, and the machine is known")
}
