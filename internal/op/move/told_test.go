package move_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/plan"
)

// Each gate of a move is told of, by whatever went through it, and what can't be told does not stop anything.
func TestGatesAreToldOf(t *testing.T) {
	w := demotest.New(t)
	out := filepath.Join(t.TempDir(), "told")
	c, err := desk.LoadConfig(w.Base)
	require.NoError(t, err)
	c.Notices.Command = []string{"sh", "-c", `cat > /dev/null; echo "$ALIBI_WHAT $ALIBI_STATE $ALIBI_MOVE" >> "$0"`, out}
	require.NoError(t, desk.SaveConfig(w.Base, c))
	require.NoError(t, w.Desk.Close())
	w.Open()
	w.Keep()
	ctx := t.Context()
	begun, err := w.Desk.Moves.Begin(ctx, desk.NewMove{Site: w.Site(shop).ID, Host: "drydock", Root: there,
		Web: []string{"127.0.0.20"}})
	require.NoError(t, err)
	m := moving{w, t, begun.Name}
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	_, err = m.Desk.Moves.Lower(ctx, m.name, shop)
	require.NoError(t, err)
	want := []string{"carry done " + m.name, "compare done " + m.name, "names done " + m.name}
	require.Eventually(t, func() bool { // they are told just after it ended
		told, err := os.ReadFile(out)
		lines := strings.Split(strings.TrimSpace(string(told)), "\n")
		return err == nil && len(lines) == len(want) && assert.ElementsMatch(t, want, lines)
	}, 20*time.Second, 20*time.Millisecond)
	_, err = m.Desk.Runs.TryNotice(ctx)
	require.NoError(t, err)

	require.NoError(t, os.Remove(out))
	require.NoError(t, os.Mkdir(out, 0o755)) // it can't be written to any more
	m.overdue()
	m.gate(plan.LegSwitch)
	require.Eventually(t, func() bool {
		events, err := m.Desk.Fleet.History(ctx, w.Site(shop).ID, 5)
		return err == nil && len(events) > 0 && events[0].Kind == "notice" &&
			strings.Contains(events[0].Text, "nobody was told of "+shop)
	}, 20*time.Second, 20*time.Millisecond)
}
