package op

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/site"
)

// addressed are machines that are reached by what the record says.
type addressed struct {
	Machines
	record *inventory.Inventory
}

type machineAt struct {
	host.Host
	at string
}

func (m machineAt) Address() string { return m.at }

func (a addressed) Host(ctx context.Context, name string) (host.Host, error) {
	h, err := a.record.Host(ctx, name)
	return machineAt{at: site.Either(h.At != "", h.At, h.Addr)}, err
}

// Hosts that are reached by a name which is about to lead elsewhere, or by one that leads there too, are held.
func TestHostsAreHeldWhereTheyAre(t *testing.T) {
	ctx := context.Background()
	e := env(t)
	var err error
	e.Record, err = inventory.Open(filepath.Join(e.Home, "record.db"))
	require.NoError(t, err)
	t.Cleanup(func() { e.Record.Close() })
	e.Machines = addressed{record: e.Record}
	e.Now = time.Now
	for name, addr := range map[string]string{"quay": "Ferry.Example.", "moor": "localhost", "pier": "pier.invalid",
		"dock": "192.0.2.9", "held": "ferry.example"} {
		h := inventory.Host{Name: name, Addr: addr}
		if name == "held" {
			h.At = "192.0.2.1"
		}
		require.NoError(t, e.Record.PutHost(ctx, h))
	}
	held := func() map[string]string {
		out := map[string]string{}
		list, err := e.Record.Hosts(ctx)
		require.NoError(t, err)
		for _, h := range list {
			if h.At != "" {
				out[h.Name] = h.At
			}
		}
		return out
	}
	require.NoError(t, e.Anchor(ctx, []string{"localhost"}, nil))
	assert.Equal(t, map[string]string{"held": "192.0.2.1"}, held(), "a name may lead to a copy on this machine")
	require.NoError(t, e.Anchor(ctx, []string{"ferry.example", "www.ferry.example"}, []string{"192.0.2.7"}))
	assert.Equal(t, map[string]string{"held": "192.0.2.1", "quay": "192.0.2.7"}, held())
	require.NoError(t, e.Anchor(ctx, []string{"other.example"}, []string{"127.0.0.1"}))
	assert.Equal(t, map[string]string{"held": "192.0.2.1", "quay": "192.0.2.7", "moor": "127.0.0.1"}, held())
}
