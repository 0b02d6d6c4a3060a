package outbox

import (
	"bytes"
	"context"
	"io"
	"mime"
	"mime/quotedprintable"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/runtime/wall"
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

func TestMailIsWrittenAsAFile(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"mail-1.json": `{"to":["a@x.example","b@x.example"],"subject":"Hochwasser über Nacht",` +
			`"message":"Mind the step\n.\nend",` +
			`"headers":["Reply-To: tide@x.example","Content-Type: text/html; charset=utf-8","Odd\r\nBcc: c@x.example"],` +
			`"attachments":["/tmp/plan.pdf"],"at":"2026-03-01T10:00:00Z"}`,
		"sendmail-2.eml": "To: d@x.example\r\nSubject: raw\r\n\r\nas it is",
		"outward-3.json": `{"method":"GET","url":"https://x.example/"}`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	r, err := local.New("slipway").Open(context.Background(), dir)
	require.NoError(t, err)
	defer r.Close()
	text, err := Message(r, Item{Kind: "mail", File: "mail-1.json"})
	require.NoError(t, err)
	m, err := mail.ReadMessage(bytes.NewReader(text))
	require.NoError(t, err)
	to, err := m.Header.AddressList("To")
	require.NoError(t, err)
	assert.Len(t, to, 2)
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	require.NoError(t, err)
	assert.Equal(t, "Hochwasser über Nacht", subject)
	assert.Equal(t, "tide@x.example", m.Header.Get("Reply-To"))
	assert.Equal(t, "text/html; charset=utf-8", m.Header.Get("Content-Type"))
	assert.Equal(t, "plan.pdf", m.Header.Get("X-Attachment-Not-Kept"))
	assert.Empty(t, m.Header.Get("Bcc"), "a header does not bring another one")
	body, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	require.NoError(t, err)
	assert.Equal(t, "Mind the step\r\n.\r\nend", string(body))
	text, err = Message(r, Item{Kind: "mail", File: "sendmail-2.eml"})
	require.NoError(t, err)
	assert.Equal(t, "To: d@x.example\r\nSubject: raw\r\n\r\nas it is", string(text))
	_, err = Message(r, Item{Kind: "call", File: "outward-3.json"})
	assert.ErrorIs(t, err, ErrNoMail)
}

func TestWhatWasCalledIsNotedByTarget(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := filepath.Join(t.TempDir(), "caught")
		at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
		n := &Notes{Dir: dir}
		for i := range 12 {
			n.Call(wall.Call{At: at.Add(time.Duration(i) * time.Second), Network: "tcp", Host: "api.example", Port: 443})
		}
		n.Call(wall.Call{At: at, Network: "tcp", Host: "pay.example", Port: 443, Through: true, Out: 1200, In: 34})
		n.Call(wall.Call{At: at, Network: "database", Host: "live_1"})
		n.Met(wall.Met{At: at, Bound: "memory", Limit: "2.0 GiB", What: "its largest program was ended"})
		assert.Empty(t, noted(t, dir), "calls are gathered for a moment")
		time.Sleep(soon)
		synctest.Wait()
		assert.Equal(t, []string{"bound memory 2.0 GiB, 1 time: its largest program was ended ",
			"reached tcp pay.example:443, 1 time, 1,200 bytes out, 34 in pay.example:443",
			"refused tcp api.example:443, refused 12 times api.example:443",
			"refused the database as live_1, refused 1 time "}, noted(t, dir))
		// The copy's code may have put anything there: nothing is written through a link, and who goes on counts on.
		secret := filepath.Join(t.TempDir(), "secret")
		require.NoError(t, os.WriteFile(secret, []byte("deep"), 0o600))
		files, err := filepath.Glob(filepath.Join(dir, "refused-*"))
		require.NoError(t, err)
		for _, f := range files {
			require.NoError(t, os.Symlink(secret, filepath.Join(dir, "."+filepath.Base(f))))
			asked := strings.Replace(f, "refused-", "asked-", 1)
			require.NoError(t, os.WriteFile(asked, []byte(`{"host":"h","port":1,"by":["plugins/a.php:7"]}`), 0o600))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "asked-77.json"),
			[]byte(`{"host":"far.example","port":8443,"by":["themes/b.php:9"]}`), 0o600))
		assert.Contains(t, noted(t, dir), "refused tcp far.example:8443, refused, asked for by themes/b.php:9 "+
			"far.example:8443", "on another host nobody counts")
		again := &Notes{Dir: dir}
		again.Call(wall.Call{At: at, Network: "tcp", Host: "api.example", Port: 443})
		time.Sleep(soon)
		synctest.Wait()
		assert.Contains(t, noted(t, dir), "refused tcp api.example:443, refused 13 times, asked for by plugins/a.php:7 "+
			"api.example:443")
		b, err := os.ReadFile(secret)
		require.NoError(t, err)
		assert.Equal(t, "deep", string(b))
	})
}

func TestWhatACopysCodeTriesForAlibiIsNotNoted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		n := &Notes{Dir: dir}
		probe := wall.Call{At: time.Now(), Network: "tcp", Host: "192.0.2.77", Port: 443}
		done := n.Trying()
		n.Call(probe)
		n.Call(wall.Call{At: time.Now(), Network: "tcp", Host: "api.example", Port: 443})
		done()
		n.Call(probe) // it is told a moment after it was made
		time.Sleep(2 * soon)
		synctest.Wait()
		assert.Equal(t, []string{"refused tcp api.example:443, refused 1 time api.example:443"}, noted(t, dir),
			"what else it calls meanwhile is its own doing")
		n.Call(probe)
		time.Sleep(soon)
		synctest.Wait()
		assert.Len(t, noted(t, dir), 2, "and so is the same later")
	})
}

// noted gives what was noted in a folder, in lines.
func noted(t *testing.T, dir string) (out []string) {
	t.Helper()
	r, err := local.New("slipway").Open(context.Background(), dir)
	if err != nil {
		return nil
	}
	defer r.Close()
	list, err := List(context.Background(), r)
	require.NoError(t, err)
	for _, it := range list {
		out = append(out, it.Kind+" "+it.To+", "+it.About()+" "+it.Target)
	}
	slices.Sort(out)
	return out
}
