package outbox

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
)

func TestWhatWasCaught(t *testing.T) {
	dir := t.TempDir()
	for i, f := range []struct{ name, text string }{
		{
			"mail-1.json",
			`{"to":"harbour@skerryline.example","subject":"Höch water","message":"Mind the step",` +
				`"headers":"From: a@b.example\nCc: c@b.example","attachments":["/srv/tide.pdf"],"at":"2026-03-01T10:00:00Z"}`,
		},
		{
			"mail-2.json",
			`{"to":["a@b.example","c@b.example"],"subject":"Two","message":"m",` +
				`"headers":[],"attachments":[],"at":"2026-03-01T11:00:00Z"}`,
		},
		{"outward-3.json", `{"method":"POST","url":"https://pay.example/charge","at":"2026-03-01T12:00:00Z"}`},
		{
			"sendmail-4.eml",
			"To: crew@skerryline.example\r\nSubject: =?UTF-8?Q?Ebbe_=C3=BCber_Nacht?=\r\n\r\nAll aboard\r\n",
		},
		{"mail-5.json", `{"to":`},
		{"notes.txt", "nobody's"},
	} {
		p := filepath.Join(dir, f.name)
		require.NoError(t, os.WriteFile(p, []byte(f.text), 0o600))
		at := time.Date(2026, 3, 1, 10+i, 0, 0, 0, time.UTC)
		require.NoError(t, os.Chtimes(p, at, at))
	}
	ctx := context.Background()
	r, err := local.New("here").Open(ctx, dir)
	require.NoError(t, err)
	defer r.Close()
	got, err := List(ctx, r)
	require.NoError(t, err)
	require.Len(t, got, 5)
	assert.Contains(t, got[0].Subject, "can't be read: unexpected end")
	assert.Equal(
		t,
		Item{
			At:      got[1].At,
			Kind:    "mail",
			To:      "crew@skerryline.example",
			Subject: "Ebbe über Nacht",
			Text:    "All aboard\r\n",
			File:    "sendmail-4.eml",
		},
		got[1],
	)
	assert.Equal(t, "POST https://pay.example/charge", got[2].To)
	assert.Equal(t, "call", got[2].Kind)
	assert.Equal(t, "a@b.example, c@b.example", got[3].To)
	assert.Equal(t, "From: a@b.example\nCc: c@b.example\n\nMind the step\n[attached: tide.pdf]", got[4].Text)
	assert.Equal(t, 10, got[4].At.Hour())
}
