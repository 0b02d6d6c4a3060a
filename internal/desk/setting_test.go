package desk

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestASettingIsSetAndTheRestStays(t *testing.T) {
	set := func(text string) string {
		return strings.Join(setLine(strings.Split(text, "\n"), "pins", "default", "summer"), "\n")
	}
	assert.Equal(t, "# mine\n[pins] # sheets\n# the usual\ndefault = \"summer\" # until June\n\n[gateway]\ndefault = 1\n",
		set("# mine\n[pins] # sheets\n# the usual\ndefault = \"spring #2\" # until June\n\n[gateway]\ndefault = 1\n"))
	assert.Equal(t, "[pins]\ndefault = \"summer\"\n[gateway]\nport = 1\n", set("[pins]\n[gateway]\nport = 1\n"))
	assert.Equal(t, "[gateway]\nport = 1\n\n[pins]\ndefault = \"summer\"\n", set("[gateway]\nport = 1\n"))
}
