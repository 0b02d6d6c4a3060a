package tui

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/inventory"
)

func TestHostsOnTheScreens(t *testing.T) {
	w, p := world(t)
	ctx := context.Background()
	gone := inventory.Host{Name: "moor", Addr: "127.0.0.1", Port: "1", User: "runa", Way: inventory.FTPS,
		PasswordFile: "/nowhere"}
	require.NoError(t, w.Desk.Workings().Record.PutHost(ctx, gone))
	p.press("H")
	p.until("slipway", "this machine", "ftps://runa@127.0.0.1:1", "pier", "< 1 ms", "reached", " no ")
	p.press("D")
	p.sees("this machine is always there")
	for range 4 { // wherever it stands in the list
		p.press("down")
		if strings.Contains(p.frame(), "the host refuses the sign-in") {
			break
		}
	}
	p.sees("the host refuses the sign-in", "sites         none")
	p.press("D")
	p.sees("Take moor out of the record?", "Nothing there is touched")
	p.press("enter")
	p.until("host moor is not in the record any more")
	_, err := w.Desk.Fleet.KnownHost(ctx, "moor")
	assert.Error(t, err)
	p.press("down", "down", "D", "enter")
	p.until("sites of the record stand on it")
	p.press("n")
	p.sees("what to call it", "password file")
	p.press("pier2", "tab", "ftp://runa@moor.example", "enter")
	p.sees("encrypts nothing")
}

func TestHelpThatIsLongIsMovedThrough(t *testing.T) {
	_, p := world(t)
	p.a.w, p.a.h = 80, 24
	p.press("?")
	p.sees("more below", "Keys of this screen")
	p.press("G")
	p.sees("that is all", "history: who did what", "leftovers")
	p.press("up", "g")
	p.sees("more below")
	p.press("x")
	assert.NotContains(t, p.frame(), "Keys of this screen")
}
