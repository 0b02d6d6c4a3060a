package far_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/host/ftp/ftptest"
	"alibi/internal/host/trust"
	"alibi/internal/inventory"
)

func TestWhatHostsCanDoIsToldAndAHostCanGo(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{Own: true})
	pier := w.Machine("pier")
	w.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	require.NoError(t, os.MkdirAll(filepath.Join(pier.Dir, "copies"), 0o755))

	s, err := w.Desk.Fleet.HostState(ctx, "pier")
	require.NoError(t, err)
	assert.Empty(t, s.Failure)
	assert.True(t, s.Commands && s.Forwards && s.Writes)
	assert.NotEmpty(t, s.PHP)
	assert.Positive(t, s.Free)
	assert.Positive(t, s.SignIn)
	left, err := filepath.Glob(filepath.Join(pier.Dir, "copies", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing of ours stays")

	s, err = w.Desk.Fleet.HostState(ctx, "moor")
	require.NoError(t, err)
	assert.False(t, s.Commands)
	assert.False(t, s.Forwards)
	assert.Contains(t, s.About, "it connects to nothing for us: databases there are read through a relay (alibi add "+
		"--relay)")

	w.Make("ferry", on(pier))
	err = w.Desk.Fleet.RemoveHost(ctx, "pier")
	require.ErrorIs(t, err, desk.ErrHostInUse)
	assert.ErrorContains(t, err, "ferry")
	require.NoError(t, w.Desk.Fleet.RemoveHost(ctx, "moor"))
	_, err = w.Desk.Fleet.HostState(ctx, "moor")
	require.Error(t, err)

	pier.Close()
	require.NoError(t, w.Desk.Close())
	w.Open()
	s, err = w.Desk.Fleet.HostState(ctx, "pier")
	require.NoError(t, err)
	assert.NotEmpty(t, s.Failure, "one that does not answer is told, too")
}

// A host's key is accepted by its name, and no other one is.
func TestKeysOfHostsAreAcceptedByName(t *testing.T) {
	ctx := context.Background()
	w := realtest.New(t, realtest.Options{Own: true})
	s := ftptest.ProFTPD(t, t.TempDir())
	word := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(word, []byte(s.Password), 0o600))
	h := inventory.Host{Name: "moor", Addr: "ftps://runa@127.0.0.1:" + s.Target.Port, PasswordFile: word,
		Pin: "SHA256:another"}
	require.ErrorIs(t, w.Desk.Fleet.AddHost(ctx, h), host.ErrHostKey)
	h.Pin = trust.Fingerprint(s.Certificate)
	h.PasswordFile = filepath.Join(t.TempDir(), "none")
	require.ErrorIs(t, w.Desk.Fleet.AddHost(ctx, h), host.ErrAuth)
	h.PasswordFile = ""
	require.ErrorContains(t, w.Desk.Fleet.AddHost(ctx, h), "--password-file")
	h.PasswordFile = word
	require.NoError(t, w.Desk.Fleet.AddHost(ctx, h))
	state, err := w.Desk.Fleet.HostState(ctx, "moor")
	require.NoError(t, err)
	assert.Equal(t, "ftps://runa@127.0.0.1:"+s.Target.Port, state.Where())
	assert.Empty(t, state.Failure)
	assert.False(t, state.Commands)

	pier := w.Machine("pier")
	b := inventory.Host{Name: "again", Addr: "127.0.0.1", Port: pier.Port, User: pier.User,
		Key: filepath.Join(w.Sites, "key-pier"), Pin: "SHA256:another"}
	require.NoError(t, os.RemoveAll(filepath.Join(w.Base, "known_hosts")))
	require.ErrorIs(t, w.Desk.Fleet.AddHost(ctx, b), host.ErrHostKey)
	b.Pin, err = pier.Fingerprint()
	require.NoError(t, err)
	require.NoError(t, w.Desk.Fleet.AddHost(ctx, b))
}
