package relay_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/relay"
	"alibi/internal/relay/relaytest"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
)

func TestMain(m *testing.M) { mariadbtest.Main(m) }

func server() relay.Server {
	return relay.Server{Host: "localhost", Socket: mariadbtest.Socket(), User: "root"}
}

// placed puts a relay in a folder of its own.
func placed(t *testing.T) (r *relay.Relay, root host.Root, name string) {
	t.Helper()
	root, address := relaytest.Serve(t, "php")
	name = relay.Name()
	r, err := relay.Put(context.Background(), root, address, name, server())
	require.NoError(t, err)
	return r, root, name
}

// post sends what is no request of ours, or one that was sent before.
func post(t *testing.T, r *relay.Relay, body []byte) (status int, text string) {
	t.Helper()
	res, err := http.Post(r.URL(), "application/octet-stream", bytes.NewReader(body)) //nolint:noctx // a test's
	require.NoError(t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(b)
}

func TestOnlyRequestsOfThisRunAreAnswered(t *testing.T) {
	r, root, name := placed(t)
	_, good := r.Request("SELECT 7")
	status, text := post(t, r, good)
	require.Equal(t, 200, status)
	assert.Contains(t, text, "7")

	status, text = post(t, r, good)
	assert.Equal(t, 403, status)
	assert.Equal(t, "replayed", text)

	_, other := r.Request("SELECT 8")
	status, _ = post(t, r, bytes.Replace(other, []byte("SELECT 8"), []byte("SELECT 9"), 1))
	assert.Equal(t, 404, status, "altered")
	for _, body := range []string{"", "x", strings.Repeat("0", 64), strings.Repeat("0", 64) + "1 1\n"} {
		status, text = post(t, r, []byte(body))
		assert.Equal(t, 404, status)
		assert.Empty(t, text, "nothing is told to strangers")
	}
	res, err := http.Get(r.URL()) //nolint:noctx // a test's
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 404, res.StatusCode)

	former, _ := relay.At(r.URL(), server(), time.Now())
	assert.ErrorIs(t, former.Answers(context.Background()), relay.ErrRefused, "of a former run")

	r.SetAhead(3600)
	_, late := r.Request("SELECT 1")
	status, text = post(t, r, late)
	assert.Equal(t, 403, status)
	assert.True(t, strings.HasPrefix(text, "late "), text)
	require.NoError(t, r.Answers(context.Background()), "a host whose clock is another one is asked by its own")
	assert.InDelta(t, 0, r.Ahead(), 2)

	seen := filepath.Join(root.Path(), strings.TrimSuffix(name, ".php")+".seen")
	notes, err := os.ReadFile(seen)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(seen, bytes.Replace(notes, []byte("127.0.0.1"), []byte("192.0.2.7"), 1), 0o644))
	err = r.Answers(context.Background())
	require.ErrorIs(t, err, relay.ErrRefused)
	assert.ErrorContains(t, err, "elsewhere")
}

// Requests that overtake one another are all answered, each once.
func TestRequestsMayOvertakeOneAnother(t *testing.T) {
	r, _, _ := placed(t)
	var list [][]byte
	for range 200 {
		_, body := r.Request("SELECT 1")
		list = append(list, body)
	}
	for from := 0; from < len(list); from += 100 {
		for i := from + 99; i >= from; i-- {
			status, text := post(t, r, list[i])
			assert.Equal(t, 200, status, "%d: %s", i, text)
		}
	}
	for i := range list {
		status, _ := post(t, r, list[i])
		assert.Equal(t, 403, status, "%d, once more", i)
	}
}

func TestNothingIsWrittenThroughARelay(t *testing.T) {
	r, _, _ := placed(t)
	ctx := context.Background()
	db := sql.OpenDB(r.Connector("", nil))
	defer db.Close()
	_, err := db.ExecContext(ctx, "CREATE DATABASE mine")
	assert.ErrorContains(t, err, "only read")
	_, err = db.BeginTx(ctx, nil)
	assert.ErrorContains(t, err, "only read")
	for _, q := range []string{"CREATE DATABASE mine", "DROP DATABASE mysql", "SELECT 1 INTO OUTFILE '/tmp/mine'",
		"SELECT NEXTVAL(x)", "/**/ DELETE FROM mysql.user"} {
		rows, err := db.QueryContext(ctx, q)
		if err == nil {
			err = rows.Err()
			rows.Close()
		}
		assert.Error(t, err, q)
	}
	for _, parts := range [][]string{{"", "CREATE DATABASE mine", "SELECT 1"},
		{"", "SET @x = 1", "=" + strings.Repeat("0", 64) + "CREATE DATABASE mine", "SELECT 1"}, {"", "1", "0", "x", "KEEP"}} {
		_, body := r.Parts(parts...)
		_, text := post(t, r, body)
		assert.Contains(t, text, "only reads", parts)
	}
	var one string
	assert.ErrorIs(t, db.QueryRowContext(ctx, "SHOW DATABASES LIKE 'mine'").Scan(&one), sql.ErrNoRows)
}

// What was changed or cut off on its way is no answer.
func TestAnAnswerIsWholeOrNone(t *testing.T) {
	r, _, _ := placed(t)
	sign, body := r.Request("SELECT 'one' UNION SELECT 'two'")
	_, text := post(t, r, body)
	read := func(text string) error { return r.Read(sign, text) }
	require.ErrorIs(t, read(text), io.EOF)
	for n := range len(text) {
		err := read(text[:n])
		assert.Error(t, err, "cut at %d", n)
		assert.NotErrorIs(t, err, io.EOF, "cut at %d", n)
	}
	for n := range len(text) {
		forged := []byte(text)
		forged[n] ^= 1
		assert.NotErrorIs(t, read(string(forged)), io.EOF, "changed at %d", n)
	}
	require.ErrorIs(t, read(text[:len(text)-70]), tables.ErrAway, "the run may try again")
}

func TestARelayEndsByItsOwnClock(t *testing.T) {
	root, address := relaytest.Serve(t, "php")
	name := relay.Name()
	r, text := relay.At(address+"/"+name, server(), time.Now().Add(-2*time.Second))
	_, err := host.Put(root, name, 0o644, time.Time{}, strings.NewReader(text))
	require.NoError(t, err)
	err = r.Answers(context.Background())
	require.ErrorIs(t, err, relay.ErrRefused)
	list, err := root.ReadDir(".")
	require.NoError(t, err)
	assert.Empty(t, list, "it removed itself")
	assert.Zero(t, r.Left())
}

// PHP of another account keeps its notes elsewhere, and removes them when it is told that all is over.
func TestARelayWhoseAccountMayNotWriteToTheFolder(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("SKIPPED: only root can run PHP as another account")
	}
	ctx := context.Background()
	root, address := relaytest.ServeAs(t, 65534, "php")
	name := relay.Name()
	r, text := relay.At(address+"/"+name, server(), time.Now().Add(time.Hour))
	_, err := host.Put(root, name, 0o644, time.Time{}, strings.NewReader(text))
	require.NoError(t, err)
	notes := filepath.Join("/tmp", strings.TrimSuffix(name, ".php")+".seen")
	require.NoError(t, r.End(ctx))
	assert.NoFileExists(t, notes)
	list, err := root.ReadDir(".")
	require.NoError(t, err)
	require.Len(t, list, 1, "what it may not remove is for us")
	_, body := r.Request("DELETE") // refused, and noted
	status, _ := post(t, r, body)
	require.Equal(t, 200, status)
	assert.FileExists(t, notes)
	status, said := post(t, r, body)
	assert.Equal(t, 403, status)
	assert.Equal(t, "replayed", said)
	require.NoError(t, r.End(ctx))
	assert.NoFileExists(t, notes)
	require.NoError(t, relay.Remove(root, name))
}

func TestAddressesThatAreNotTheFolders(t *testing.T) {
	ctx := context.Background()
	root, address := relaytest.Serve(t, "php")
	_, elsewhere := relaytest.Serve(t, "php")
	text := http.NewServeMux()
	text.Handle("/", http.FileServer(http.Dir(root.Path())))
	asText := serve(t, text)
	leads := serve(t, http.RedirectHandler("https://example.net/", http.StatusMovedPermanently))
	stranger := relay.Server{Host: "localhost", Socket: mariadbtest.Socket(), User: "nobody", Password: "it's \\ secret"}
	for _, c := range []struct {
		address string
		server  relay.Server
		want    error
	}{
		{elsewhere, server(), relay.ErrElsewhere}, {asText, server(), relay.ErrNoPHP},
		{leads, server(), relay.ErrElsewhere}, {"http://127.0.0.1:1", server(), tables.ErrAway},
		{address, stranger, nil},
	} {
		_, err := relay.Put(ctx, root, c.address, relay.Name(), c.server)
		require.Error(t, err)
		if c.want != nil {
			require.ErrorIs(t, err, c.want)
		}
		assert.NotContains(t, fmt.Sprint(err), "secret")
		list, err := root.ReadDir(".")
		require.NoError(t, err)
		assert.Empty(t, list, "nothing is left: %s", c.address)
	}
}

func serve(t *testing.T, h http.Handler) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}
