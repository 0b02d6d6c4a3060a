package secrets_test

import (
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zalando/go-keyring"

	"alibi/internal/secrets"
)

func key(t *testing.T, name string) string {
	t.Helper()
	k, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, []byte("# made up\n"+k.String()+"\n"), 0o600))
	return file
}

func TestWhereASecretIsCanBeKept(t *testing.T) {
	t.Setenv("HOME", "/home/runa")
	t.Chdir("/tmp")
	for where, want := range map[string]string{"": "", "secret:moor": "secret:moor", "word": "/tmp/word",
		"~/.moor": "/home/runa/.moor", "/etc/moor": "/etc/moor"} {
		got, err := secrets.Whole(where)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func TestSecretsAreKeptByName(t *testing.T) {
	keyring.MockInit()
	home := t.TempDir()
	for name, s := range map[string]secrets.Store{
		"a file":      {Path: filepath.Join(home, "secrets.age"), Key: key(t, "key")},
		"the keyring": {Path: filepath.Join(home, "unused")},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := s.Get("moor-ftp")
			require.ErrorIs(t, err, secrets.ErrUnknown)
			assert.ErrorContains(t, err, "alibi secrets put moor-ftp")
			require.NoError(t, s.Put("moor-ftp", "made up"))
			require.NoError(t, s.Put("quay", "other"))
			require.NoError(t, s.Put("moor-ftp", "tide and ebb"))
			names, err := s.Names()
			require.NoError(t, err)
			assert.Equal(t, []string{"moor-ftp", "quay"}, names)
			v, err := s.Read("secret:moor-ftp")
			require.NoError(t, err)
			assert.Equal(t, "tide and ebb", v)
			require.NoError(t, s.Remove("quay"))
			require.ErrorIs(t, s.Remove("quay"), secrets.ErrUnknown)
			require.Error(t, s.Put("Moor FTP", "x"))
			require.Error(t, s.Put("moor", ""))
			if s.Key == "" {
				assert.NoFileExists(t, s.Path)
				return
			}
			kept, err := os.ReadFile(s.Path)
			require.NoError(t, err)
			assert.NotContains(t, string(kept), "tide")
			assert.NotContains(t, string(kept), "moor")
			fi, err := os.Stat(s.Path)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), fi.Mode().Perm())
			other := secrets.Store{Path: s.Path, Key: key(t, "other")}
			_, err = other.Get("moor-ftp")
			require.ErrorContains(t, err, "does not open")
			require.Error(t, other.Put("x", "y"), "and nothing is written over")
			again, err := os.ReadFile(s.Path)
			require.NoError(t, err)
			assert.Equal(t, kept, again)
		})
	}
	file := filepath.Join(home, "word")
	require.NoError(t, os.WriteFile(file, []byte("in a file\r\n"), 0o600))
	v, err := secrets.Store{}.Read(file)
	require.NoError(t, err)
	assert.Equal(t, "in a file", v)
}
