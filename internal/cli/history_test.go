package cli

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/site"
)

func TestHistoryOfWhatIsGone(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	c.ok("copy", "skerryline.example", "--name", "brief")
	c.ok("extend", "brief", "1h")
	c.ok("remove", "brief", "--confirm", "brief")
	all := c.ok("history", "brief")
	for _, text := range []string{"extended by 60 min", "removed for good"} {
		assert.Contains(t, all, text, "what happened to a site stays known when it is gone")
	}
	assert.NotContains(t, c.ok("history", "brief", "--kind", "extend"), "removed for good")
	assert.Contains(t, c.ok("history", "brief", "--limit", "1"), "there may be more: --skip 1")
	assert.NotContains(t, c.ok("history", "brief", "--skip", "1"), "removed for good",
		"the latest is first, once: "+all)
	assert.Empty(t, strings.TrimSpace(c.ok("history", "--who", "nobody-of-this-name")))
	c.fails(ExitUsage, "is no day", "history", "--since", "yesterday")
	c.fails(ExitNotFound, "no site is called", "history", "never-there")

	var list []desk.Happening
	c.read(&list, "history", "--limit", "0")
	for i := range list[1:] {
		assert.False(t, list[i].At.Before(list[i+1].At), "by time")
	}
	assert.Contains(t, c.ok("runs", "--limit", "1"), "there may be more")
	assert.NotContains(t, c.ok("runs", "--of", "brief", "--state", "failed"), "brief")
}

func TestCopiesOfAForgottenOriginStandAlone(t *testing.T) {
	w := demotest.New(t)
	c := commands{t, w.Home}
	c.ok("copy", "crew.skerryline.example", "--name", "orphan")
	_, err := w.Desk.Workings().Record.ChangeSite(context.Background(), w.Site("orphan").ID, func(s *site.Site) error {
		s.Origin = "nobody"
		return nil
	})
	require.NoError(t, err)
	list := c.ok("list")
	at := strings.Index(list, "of origins that were forgotten")
	assert.Positive(t, at)
	assert.Greater(t, strings.Index(list, "orphan"), at, "beneath no other live site")
}
