package nameserver_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/nameserver"
	"alibi/internal/dns"
	"alibi/internal/site"
)

const zone = `@ 3600 NS ns
tickets 2 A 192.0.2.10
www 60 CNAME tickets
@ 3600 MX 10 mail
`

const secret = "bWFkZSB1cCBmb3IgdGVzdHM="

func TestTheStandInBehavesAsARealOne(t *testing.T) {
	s, err := nameserver.Start("skerryline.example", zone, "alibi", secret)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	ctx := t.Context()
	server, resolver := dns.Server(s.Addr), dns.Server(s.Resolver)
	u := dns.Updater{Server: server, Key: dns.Key{Name: "alibi", Secret: secret}}
	name := "tickets.skerryline.example"
	was, err := resolver.Resolve(ctx, name, "A")
	require.NoError(t, err)
	assert.Equal(t, []string{"192.0.2.10"}, was.Values)
	want := []site.RecordSet{{Name: name, Type: "A", TTL: 2 * time.Second, Values: []string{"192.0.2.20"}}}
	stale := []site.RecordSet{{Name: name, Type: "A", Values: []string{"192.0.2.99"}}}
	assert.ErrorIs(t, u.Change(ctx, "skerryline.example", stale, want), dns.ErrChanged)
	assert.ErrorIs(t, dns.Updater{Server: server}.Change(ctx, "skerryline.example", nil, want), dns.ErrRefused)
	assert.ErrorIs(t, u.Change(ctx, "elsewhere.example", nil, want), dns.ErrRefused)
	require.NoError(t, u.Change(ctx, "skerryline.example", []site.RecordSet{was}, want))
	now, err := server.Set(ctx, name, "A")
	require.NoError(t, err)
	assert.Equal(t, want[0], now)
	still, err := resolver.Resolve(ctx, name, "A")
	require.NoError(t, err)
	assert.Equal(t, was.Values, still.Values, "it keeps the former answer for its lifetime")
	require.Eventually(t, func() bool {
		is, err := resolver.Resolve(ctx, name, "A")
		return err == nil && is.Same(want[0])
	}, 10*time.Second, 100*time.Millisecond)
	found, servers, err := dns.Responsible(ctx, resolver, "www.tickets.skerryline.example")
	require.NoError(t, err)
	assert.Equal(t, "skerryline.example", found)
	assert.Equal(t, []dns.Server{"ns.skerryline.example"}, servers)
	_, err = server.Set(ctx, "elsewhere.example", "A")
	assert.ErrorIs(t, err, dns.ErrRefused)
}
