package ftp_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/ftp"
	"alibi/internal/host/ftp/ftptest"
	"alibi/internal/host/hosttest"
	"alibi/internal/host/trust"
	"alibi/internal/tree"
)

var servers = map[string]func(*testing.T, string, ...string) *ftptest.Server{"proftpd": ftptest.ProFTPD,
	"vsftpd": ftptest.VSFTPD}

// folder is a folder that a server shows.
func folder(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "sites")
	require.NoError(t, os.Mkdir(dir, 0o755))
	return dir
}

func TestHost(t *testing.T) {
	for name, start := range servers {
		t.Run(name, func(t *testing.T) {
			s := start(t, folder(t))
			h := ftp.New("moor", s.Target, s.Options())
			defer h.Close()
			lacks := hosttest.Lacks{Links: true, Owners: true, Room: true, Bytes: true}
			lacks.Modes = name == "vsftpd" // where nobody signs in
			hosttest.RunWithout(t, h, s.At, s.Dir, lacks)
		})
	}
}

// A whole tree comes over as it is, with times to the second and modes, and what leads out of it does not.
func TestATreeComesOver(t *testing.T) {
	for name, start := range servers {
		t.Run(name, func(t *testing.T) {
			ctx := context.Background()
			dir := folder(t)
			when := time.Date(2024, 3, 4, 5, 6, 7, 0, time.UTC)
			for _, f := range []string{"index.php", "a/b/c.txt", "a/-rf", "a/with  two blanks", " leading", "a -> b", "é"} {
				p := filepath.Join(dir, f)
				require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
				require.NoError(t, os.WriteFile(p, bytes.Repeat([]byte(f), 10_000), 0o604))
				require.NoError(t, os.Chtimes(p, when, when))
			}
			require.NoError(t, os.WriteFile(filepath.Join(dir, "new\nline"), nil, 0o644))
			require.NoError(t, os.Symlink("a/b", filepath.Join(dir, "inside")))
			require.NoError(t, os.Symlink("/etc", filepath.Join(dir, "out")))
			s := start(t, dir)
			h := ftp.New("moor", s.Target, s.Options())
			defer h.Close()
			r, err := h.Open(ctx, s.At)
			require.NoError(t, err)
			list, err := tree.Scan(ctx, r, tree.Filter{})
			require.NoError(t, err)
			seen := map[string]tree.Entry{}
			for _, e := range list.Entries {
				seen[e.Path] = e
			}
			for _, f := range []string{"index.php", "a/b/c.txt", "a/-rf", "a/with  two blanks", " leading", "a -> b", "é"} {
				e, ok := seen[f]
				require.True(t, ok, "%q in %v", f, list.Entries)
				assert.Equal(t, when, e.MTime.UTC(), f)
				assert.EqualValues(t, 0o604, e.Mode.Perm(), f)
				b, err := host.ReadFile(r, f, 1<<20)
				require.NoError(t, err)
				assert.Equal(t, strings.Repeat(f, 10_000), string(b))
			}
			assert.Equal(t, "a/b", seen["inside"].Link)
			assert.NotContains(t, seen, "out/passwd")
			assert.NotContains(t, seen, "new")
			_, err = r.Open("out/passwd")
			assert.ErrorIs(t, err, host.ErrEscapes)
			_, err = h.Command(ctx, "id")
			assert.ErrorIs(t, err, host.ErrNoCommands)
			_, err = h.Dial(ctx, "tcp", "127.0.0.1:3306")
			assert.ErrorIs(t, err, host.ErrNoForward)
		})
	}
}

func TestSignIn(t *testing.T) {
	ctx := context.Background()
	s := ftptest.ProFTPD(t, folder(t))
	open := func(tg ftp.Target, o ftp.Options) error {
		h := ftp.New("moor", tg, o)
		defer h.Close()
		_, err := h.Open(ctx, s.At)
		return err
	}
	wrong := s.Options()
	wrong.Password = func() (string, error) { return "made up", nil }
	err := open(s.Target, wrong)
	require.ErrorIs(t, err, host.ErrAuth)
	assert.NotContains(t, err.Error(), "made up")

	stranger := s.Options()
	stranger.Roots = x509.NewCertPool()
	err = open(s.Target, stranger)
	var unknown *trust.Unknown
	require.ErrorAs(t, err, &unknown)
	require.ErrorIs(t, err, host.ErrHostKey)
	assert.Equal(t, trust.Fingerprint(s.Certificate), unknown.Fingerprint)
	pinned := s.Target
	pinned.Pin = unknown.Fingerprint
	require.NoError(t, open(pinned, stranger), "a key that was accepted")
	pinned.Pin = "SHA256:another"
	require.ErrorAs(t, open(pinned, stranger), &unknown)

	plain := s.Target
	plain.Plain = true
	assert.Error(t, open(plain, s.Options()), "this server wants TLS")
	free := ftptest.ProFTPD(t, folder(t), "TLSRequired off")
	h := ftp.New("moor", ftp.Target{Host: "127.0.0.1", Port: free.Target.Port, User: "runa", Plain: true}, free.Options())
	defer h.Close()
	_, err = h.Open(ctx, free.At)
	require.NoError(t, err)

	nobody := s.Target
	nobody.Port = "1"
	assert.ErrorIs(t, open(nobody, s.Options()), host.ErrNoAnswer)
}

// A host that ended a connection meanwhile is asked by another; one that does so in the middle of a file says so.
func TestConnectionsThatEnd(t *testing.T) {
	ctx := context.Background()
	dir := folder(t)
	big := bytes.Repeat([]byte("0123456789abcdef"), 1<<20)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), big, 0o644))
	s := ftptest.ProFTPD(t, dir)
	between := relayed(t, net.JoinHostPort(s.Target.Host, s.Target.Port))
	tg := s.Target
	tg.Port = between.port
	h := ftp.New("moor", tg, s.Options())
	defer h.Close()
	r, err := h.Write(ctx, s.At)
	require.NoError(t, err)
	_, err = r.ReadDir(".")
	require.NoError(t, err)
	between.cut()
	_, err = r.ReadDir(".")
	require.NoError(t, err, "by a new connection")
	f, err := r.Open("big")
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, f, 1000)
	require.NoError(t, err)
	require.NoError(t, f.Close(), "a file need not be read to its end")
	b, err := host.ReadFile(r, "big", 1<<30)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(big, b))

	_, err = host.Put(r, "new", 0o600, time.Time{}, io.MultiReader(bytes.NewReader(big), cutting{between}))
	assert.Error(t, err, "what broke off is no file")
	assert.NoFileExists(t, filepath.Join(dir, "new"))
}

// What hangs is broken off at once, and a bandwidth is kept to.
func TestAbortedAndBounded(t *testing.T) {
	ctx := context.Background()
	dir := folder(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), bytes.Repeat([]byte("0123456789"), 60_000), 0o644))
	s := ftptest.ProFTPD(t, dir)
	o := s.Options()
	o.Bandwidth = 400_000
	h := ftp.New("moor", s.Target, o)
	defer h.Close()
	r, err := h.Open(ctx, s.At)
	require.NoError(t, err)
	began := time.Now()
	_, err = host.ReadFile(r, "big", 1<<30)
	require.NoError(t, err)
	assert.Greater(t, time.Since(began), time.Second, "600 KB at 400 KB a second")
	f, err := r.Open("big")
	require.NoError(t, err)
	defer f.Close()
	time.AfterFunc(100*time.Millisecond, h.Abort)
	began = time.Now()
	_, err = io.Copy(io.Discard, f)
	require.Error(t, err)
	assert.Less(t, time.Since(began), time.Second)
	_, err = r.ReadDir(".")
	assert.ErrorIs(t, err, host.ErrNoAnswer, "it is left alone for a moment")
	require.Eventually(t, func() bool { _, err := r.ReadDir("."); return err == nil }, 10*time.Second,
		100*time.Millisecond)
}

// cutting ends all connections when it is read.
type cutting struct{ b *betweenConns }

func (c cutting) Read([]byte) (int, error) {
	c.b.cut()
	time.Sleep(100 * time.Millisecond)
	return 0, io.ErrUnexpectedEOF
}
