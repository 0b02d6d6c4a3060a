package desk_test

import (
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"alibi/internal/access"
	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
)

func TestAnAccessSheetIsTriedAndUsed(t *testing.T) {
	w := demotest.New(t)
	ctx := t.Context()
	f := w.Desk.Fleet
	pier, err := w.Desk.Workings().Record.Host(ctx, "pier")
	require.NoError(t, err)
	set := func(field, v string) { t.Helper(); require.NoError(t, f.SetField("moor", field, v, false)) }
	states := func() map[string]access.Seen {
		t.Helper()
		list, err := f.TrySheet(ctx, "moor")
		require.NoError(t, err)
		out := map[string]access.Seen{}
		for _, x := range list {
			out[x.Field] = x
		}
		return out
	}
	assert.Error(t, f.SetField("Moor!", "way", "ssh", false))
	assert.Equal(t, access.Missing, states()["way"].State)
	_, err = f.UseSheet(ctx, "moor", false)
	assert.ErrorContains(t, err, "way is missing")
	for field, v := range map[string]string{"way": "ssh", "host": pier.Addr, "port": "1", "user": pier.User,
		"key": pier.Key, "root": "/srv/nothing"} {
		set(field, v)
	}
	assert.Equal(t, access.Wrong, states()["port"].State)
	set("port", pier.Port)
	got := states()
	assert.Equal(t, access.Right, got["user"].State, got["user"].Text)
	assert.Equal(t, access.Right, got["host"].State)
	assert.Equal(t, access.Wrong, got["root"].State)
	set("root", "/srv/tickets/public")
	assert.Regexp(t, "entries are there", states()["root"].Text)

	set("key", filepath.Join(w.Base, "config.toml")) // no key is in it
	assert.Equal(t, access.Wrong, states()["user"].State)
	set("key", "")
	line, err := f.MakeKey("moor")
	require.NoError(t, err)
	_, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	require.NoError(t, err)
	assert.Equal(t, "alibi-moor", comment)
	_, err = f.MakeKey("moor")
	assert.ErrorContains(t, err, "names a key already")

	set("key", pier.Key)
	set("root", "")
	u, err := f.UseSheet(ctx, "moor", false)
	require.NoError(t, err)
	assert.Equal(t, pier.Addr, u.Host.Addr)
	assert.Nil(t, u.Site)
	state, err := f.HostState(ctx, "moor")
	require.NoError(t, err)
	assert.Empty(t, state.Failure)
	names, err := f.Sheets()
	require.NoError(t, err)
	assert.Equal(t, []string{"moor"}, names)
	require.NoError(t, f.RemoveSheet("moor"))
	assert.Error(t, f.RemoveSheet("moor"))
}

func TestAPasswordOnASheetIsPutAmongTheSecrets(t *testing.T) {
	w := demotest.New(t)
	k, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte(k.String()+"\n"), 0o600))
	c, err := desk.LoadConfig(w.Base)
	require.NoError(t, err)
	c.Secrets.Key = key
	require.NoError(t, desk.SaveConfig(w.Base, c))
	require.NoError(t, w.Desk.Close())
	w.Open()
	f := w.Desk.Fleet
	s, moved, err := f.ReadSheet("moor", []byte("way = 'ftp'\nhost = 'moor.example'\nuser = 'runa'\n"+
		"password = 'tide and ebb'\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"password"}, moved)
	assert.Equal(t, "secret:moor-password", s.Password)
	v, err := f.Secrets().Get("moor-password")
	require.NoError(t, err)
	assert.Equal(t, "tide and ebb", v)
	text, err := os.ReadFile(filepath.Join(w.Base, "access", "moor.toml"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "tide")
	_, err = f.UseSheet(t.Context(), "moor", false)
	assert.ErrorContains(t, err, "nothing is encrypted")
	require.NoError(t, f.SetField("moor", "database_password", "other", true))
	s, err = f.Sheet("moor")
	require.NoError(t, err)
	assert.Equal(t, "secret:moor-database-password", s.DatabasePassword)
	assert.ErrorContains(t, f.SetField("moor", "password", "plain", false), "secret:NAME")
}
