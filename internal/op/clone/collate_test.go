package clone_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// older is a server that does not know some collations.
type older struct {
	tables.Server
	lacks []string
}

func (o older) Abilities(ctx context.Context) (tables.Abilities, error) {
	a, err := o.Server.(tables.Able).Abilities(ctx)
	for _, c := range o.lacks {
		delete(a.Collations, c)
	}
	return a, err
}

// olderMachines are machines with such servers.
type olderMachines struct {
	op.Machines
	lacks []string
}

func (o olderMachines) Server(ctx context.Context, hostName string) (*op.Server, error) {
	s, err := o.Machines.Server(ctx, hostName)
	if err != nil {
		return nil, err
	}
	return &op.Server{Server: older{s.Server, o.lacks}, Address: s.Address}, nil
}

func TestACopyHasCollationsThatItsServerKnows(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	env, lacks := w.Desk.Workings().Env, []string{"utf8mb4_unicode_520_ci"}
	env.Machines = olderMachines{env.Machines, lacks}
	w.Keep()
	s := clonetest.CopyOf(w, live, "older", func(*clone.Choices) {})
	clonetest.Holds(t, w, s)
	snap, err := mariadbtest.DB(s.Database.Name).Snapshot(t.Context())
	require.NoError(t, err)
	defer snap.Close()
	has := engines.Collations(snap.Schema())
	assert.NotContains(t, has, lacks[0])
	assert.Contains(t, has, "utf8mb4_uca1400_ai_ci")
	told, err := w.Desk.Fleet.History(t.Context(), s.ID, 20)
	require.NoError(t, err)
	text := ""
	for _, h := range told {
		text += h.Text + "\n"
	}
	assert.Contains(t, text, "does not know the collation utf8mb4_unicode_520_ci: it has utf8mb4_uca1400_ai_ci")

	// A refresh brings rows only, as it does where both are the same.
	require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(t.Context(),
		"UPDATE sk_posts SET post_title = 'Fog' WHERE ID = 1"))
	p, err := w.Desk.Copies.PlanRefresh(t.Context(), s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	clonetest.Holds(t, w, w.Site("older"))
}
