package clone_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
)

// on puts a site on a machine.
func on(m *real.Machine) func(*real.Spec) {
	return func(s *real.Spec) {
		s.Host, s.Root, s.Server, s.Admin = m.Name, filepath.Join(m.Dir, "www", filepath.Base(s.Root)), m.Server(), m.Admin()
	}
}

func TestBetweenRealHosts(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	pier := w.Machine("pier")
	drydock := w.Machine("drydock")
	live := w.Make("ferry", on(pier))
	w.Keep()
	ctx := context.Background()
	for name, host := range map[string]string{"to this machine": "", "to the same host": pier.Name, "to another host": drydock.Name} {
		t.Run(name, func(t *testing.T) {
			s := copyOf(w, live, "on-"+map[string]string{"": "slipway"}[host]+host, func(c *clone.Choices) { c.Host = host })
			holds(t, w, s)
			_, page := ask(t, s, "/post-3/")
			has(t, page, s.Address().String()+"/tides/")
			lacks(t, page, "://ferry.skerryline.example")
			quiet(t, s)
			p, err := w.Desk.PlanRefresh(ctx, s.ID)
			require.NoError(t, err)
			r := w.Run(p)
			require.Equal(t, plan.Done, r.State, r.Error)
			holds(t, w, w.Site(s.Name))
			p, err = w.Desk.PlanRemove(ctx, s.ID)
			require.NoError(t, err)
			r = w.Run(p)
			require.Equal(t, plan.Done, r.State, r.Error)
			for _, m := range []*real.Machine{pier, drydock} {
				left, err := filepath.Glob(filepath.Join(m.Dir, "copies", "*"))
				require.NoError(t, err)
				assert.Empty(t, left, "nothing of ours stays")
				list, err := m.Admin().Databases(ctx)
				require.NoError(t, err)
				assert.NotContains(t, strings.Join(list, " "), "alibi_")
			}
		})
	}
}
