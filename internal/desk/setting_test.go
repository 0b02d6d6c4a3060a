package desk

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASettingIsSetAndTheRestStays(t *testing.T) {
	set := func(text string) string {
		return strings.Join(setLine(strings.Split(text, "\n"), "pins", "default", "summer"), "\n")
	}
	assert.Equal(
		t, "# mine\n[pins] # sheets\n# the usual\ndefault = \"summer\" # until June\n\n[gateway]\ndefault = 1\n",
		set("# mine\n[pins] # sheets\n# the usual\ndefault = \"spring #2\" # until June\n\n[gateway]\ndefault = 1\n"),
	)
	assert.Equal(t, "[pins]\ndefault = \"summer\"\n[gateway]\nport = 1\n", set("[pins]\n[gateway]\nport = 1\n"))
	assert.Equal(t, "[gateway]\nport = 1\n\n[pins]\ndefault = \"summer\"\n", set("[gateway]\nport = 1\n"))
}

func TestAChangedConfigurationIsNoticed(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, SaveConfig(home, defaults()))
	d := &Desk{core: &core{opt: Options{Home: home}, configDigest: digestOfConfig(home)}}
	assert.False(t, d.Stale())
	require.NoError(t, setInConfig(home, "pins", "default", "summer"))
	assert.True(t, d.Stale(), "an open window says so")
}
