package tui

import (
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

func TestATextOfSeveralPartsIsBrokenIntoLines(t *testing.T) {
	loud, soft := lipgloss.NewStyle().Bold(true), lipgloss.NewStyle().Faint(true)
	parts := []part{{"warning ", loud}, {"the pier is wet", loud}, {"; wear the other shoes, öl and all", soft}}
	for w := 10; w < 80; w++ {
		var plain, quiet []string
		for _, l := range wrapped(parts, w) {
			assert.LessOrEqual(t, ansi.StringWidth(l), w)
			plain = append(plain, strings.TrimSpace(ansi.Strip(l)))
			if at := strings.Index(l, "\x1b[2m"); at >= 0 {
				quiet = append(quiet, strings.TrimSpace(ansi.Strip(l[at:])))
			}
		}
		assert.Equal(t, "warning the pier is wet; wear the other shoes, öl and all", strings.Join(plain, " "), "%d", w)
		assert.Equal(t, "; wear the other shoes, öl and all", strings.Join(quiet, " "), "%d: each part keeps its style", w)
	}
}
