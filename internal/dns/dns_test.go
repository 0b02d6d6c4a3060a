package dns_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/dns"
	"alibi/internal/dns/dnstest"
	"alibi/internal/site"
)

func TestAServerIsReadAndChanged(t *testing.T) {
	k := dnstest.Start(t, "192.0.2.10", true)
	ctx := t.Context()
	web, err := k.Server.Web(ctx, "tickets.skerryline.example")
	require.NoError(t, err)
	require.Len(t, web, 2)
	assert.Equal(t, "tickets.skerryline.example 600 A 192.0.2.10", web[0].String())
	assert.Equal(t, "AAAA", web[1].Type)
	alias, err := k.Server.Web(ctx, "www.skerryline.example")
	require.NoError(t, err)
	require.Len(t, alias, 1)
	assert.Equal(t, []string{"skerryline.example."}, alias[0].Values)
	names := []string{"tickets.skerryline.example"}
	before, whole, err := k.Server.Around(ctx, dnstest.Zone, names)
	require.NoError(t, err)
	assert.True(t, whole)
	assert.Len(t, before, 9, "all but the addresses of the shop")

	want := []site.RecordSet{
		{Name: names[0], Type: "A", TTL: time.Minute, Values: []string{"192.0.2.77"}},
		{Name: names[0], Type: "AAAA"},
	}
	require.NoError(t, k.Update.Change(ctx, dnstest.Zone, web, want))
	now, err := k.Server.Web(ctx, names[0])
	require.NoError(t, err)
	assert.Equal(t, want[:1], now)
	after, _, err := k.Server.Around(ctx, dnstest.Zone, names)
	require.NoError(t, err)
	assert.Equal(t, before, after, "mail and all else are what they were")

	t.Run("what is not as it was said to be is not changed", func(t *testing.T) {
		assert.ErrorIs(t, k.Update.Change(ctx, dnstest.Zone, web, web), dns.ErrChanged)
		now, err := k.Server.Web(ctx, names[0])
		require.NoError(t, err)
		assert.Equal(t, want[:1], now)
		assert.ErrorIs(t, k.Update.Change(ctx, dnstest.Zone,
			[]site.RecordSet{{Name: names[0], Type: "A"}}, web[:1]), dns.ErrChanged, "it was not to be there")
	})
	t.Run("lifetimes alone", func(t *testing.T) {
		require.NoError(t, k.Update.Change(ctx, dnstest.Zone, want[:1], []site.RecordSet{want[0].With(2 * time.Hour)}))
		r, err := k.Server.Set(ctx, names[0], "A")
		require.NoError(t, err)
		assert.Equal(t, 2*time.Hour, r.TTL)
	})
}

func TestWhoMayNotChangesNothing(t *testing.T) {
	k := dnstest.Start(t, "192.0.2.10", false)
	ctx := t.Context()
	set := []site.RecordSet{{Name: "tickets.skerryline.example", Type: "A", TTL: time.Minute,
		Values: []string{"192.0.2.77"}}}
	for what, u := range map[string]dns.Updater{
		"no key":        {Server: k.Server},
		"another key":   {Server: k.Server, Key: dns.Key{Name: "somebody", Secret: dnstest.Secret}},
		"another value": {Server: k.Server, Key: dns.Key{Name: "alibi", Secret: "bm90IHRoZSBzZWNyZXQgb2YgdGhlIGtleQ=="}},
	} {
		err := u.Change(ctx, dnstest.Zone, nil, set)
		assert.ErrorIs(t, err, dns.ErrRefused, what)
		assert.NotContains(t, err.Error(), dnstest.Secret)
	}
	assert.ErrorIs(t, k.Update.Change(ctx, "elsewhere.example", nil, set), dns.ErrRefused)
	assert.Error(t, k.Update.Change(ctx, dnstest.Zone, nil,
		[]site.RecordSet{{Name: "tickets.skerryline.example", Type: "A", Values: []string{"not an address"}}}))
	r, err := k.Server.Set(ctx, "tickets.skerryline.example", "A")
	require.NoError(t, err)
	assert.Equal(t, []string{"192.0.2.10"}, r.Values)

	around, whole, err := k.Server.Around(ctx, dnstest.Zone, []string{"tickets.skerryline.example"})
	require.NoError(t, err)
	assert.False(t, whole, "the zone is not handed out")
	kinds := map[string]bool{}
	for _, r := range around {
		kinds[r.Name+" "+r.Type] = true
	}
	assert.True(t, kinds["skerryline.example MX"] && kinds["_dmarc.skerryline.example TXT"], kinds)
	assert.False(t, kinds["tickets.skerryline.example A"])
}

func TestServersThatSayNothing(t *testing.T) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := dns.Server(c.LocalAddr().String())
	require.NoError(t, c.Close())
	_, err = addr.Set(t.Context(), "skerryline.example", "A")
	assert.ErrorIs(t, err, dns.ErrNoAnswer)
	assert.ErrorIs(t, dns.Updater{Server: addr}.Change(t.Context(), "skerryline.example", nil, nil), dns.ErrNoAnswer)
	k := dnstest.Start(t, "192.0.2.10", false)
	_, err = k.Server.Set(t.Context(), "elsewhere.example", "A")
	assert.ErrorIs(t, err, dns.ErrRefused)
	_, err = k.Server.Set(t.Context(), "skerryline.example", "NONSENSE")
	assert.ErrorContains(t, err, "not known")
}

func TestByHand(t *testing.T) {
	assert.ErrorIs(t, dns.ByHand{}.Change(t.Context(), "skerryline.example", nil, nil), dns.ErrByHand)
}
