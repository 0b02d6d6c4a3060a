package access_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/access"
)

// states are those of the fields of a sheet that are not empty ones.
func states(s access.Sheet) map[string]access.State {
	out := map[string]access.State{}
	for _, x := range s.Look() {
		if x.State != access.Empty {
			out[x.Field] = x.State
		}
	}
	return out
}

func set(t *testing.T, s *access.Sheet, field, v string) {
	t.Helper()
	f, err := access.Find(field)
	require.NoError(t, err)
	require.NoError(t, f.Set(s, v))
}

func TestWhatIsMissingAndWrong(t *testing.T) {
	var s access.Sheet
	assert.Equal(t, map[string]access.State{"way": access.Missing, "host": access.Missing, "user": access.Missing,
		"password": access.Missing}, states(s))
	set(t, &s, "way", access.Site)
	assert.Equal(t, access.Missing, states(s)["address"])
	assert.NotContains(t, states(s), "host", "its pages are the way in")
	set(t, &s, "way", access.SSH)
	assert.NotContains(t, states(s), "password", "an agent or a key may do")
	set(t, &s, "address", " Ferry.example/boats/ ")
	assert.Equal(t, "https://ferry.example/boats", s.Address, "in the one form")
	assert.Equal(t, access.Missing, states(s)["root"])
	for field, bad := range map[string]string{"way": "post", "host": "ftp://moor.example", "port": "70000",
		"user": "ru na", "key": "/no/such/key", "fingerprint": "MD5:00", "root": "public", "password": "/no/such/word"} {
		set(t, &s, field, bad)
		assert.Equal(t, access.Wrong, states(s)[field], field)
	}
	assert.False(t, access.Ready(s.Look()))
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, nil, 0o600))
	for field, good := range map[string]string{"way": "ftps", "host": "2001:db8::1", "port": "22", "user": "runa",
		"key":         key,
		"fingerprint": "SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU", "root": "/srv/a b", "password": "secret:moor"} {
		set(t, &s, field, good)
		assert.Equal(t, access.Given, states(s)[field], field)
	}
	assert.True(t, access.Ready(s.Look()))
	set(t, &s, "database_server", "localhost")
	assert.Equal(t, access.Missing, states(s)["database_user"])
}

func TestPasswordsAreNotOnASheet(t *testing.T) {
	s := access.Sheet{}
	f, err := access.Find("password")
	require.NoError(t, err)
	err = f.Set(&s, "tide and ebb")
	assert.ErrorContains(t, err, "secret:NAME")
	assert.NotContains(t, err.Error(), "tide")
	assert.Empty(t, s.Password)
	_, err = access.Find("pass")
	assert.ErrorContains(t, err, "database_password")
}

func TestASheetIsWrittenAndRead(t *testing.T) {
	s := access.Sheet{Way: access.FTPS, Host: "moor.example", User: "runa", Password: "secret:moor", Client: `O'"Neal\`}
	text := access.Write(s)
	again, err := access.Read(text)
	require.NoError(t, err)
	assert.Equal(t, s, again)
	assert.Contains(t, string(text), "# host: name or number of the machine")
	_, err = access.Read([]byte("way = 'ssh'\nship = 'Hythe'\n"))
	assert.EqualError(t, err, "line 2: a sheet has no field ship")
	_, err = access.Read([]byte("way = \n"))
	assert.ErrorContains(t, err, "line 1")

	other := access.Sheet{Host: "pier.example"}
	assert.Equal(t, []string{"way", "user", "password", "client"}, other.Like(s))
	assert.Equal(t, "pier.example", other.Host, "what stands there stays")
	assert.Equal(t, "runa", other.User)
}
