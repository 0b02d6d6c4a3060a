package notify_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/notify"
	"alibi/internal/secrets"
)

// post takes mail.
type post struct {
	mu   sync.Mutex
	to   []string
	text string
}

func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return session{p}, nil }

type session struct{ *post }

func (s session) Mail(string, *smtp.MailOptions) error { return nil }
func (s session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.to = append(s.to, to)
	return nil
}
func (s session) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.text = string(b)
	return err
}
func (session) Reset()        {}
func (session) Logout() error { return nil }

func office(t *testing.T) (p *post, addr string) {
	t.Helper()
	p = &post{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := smtp.NewServer(p)
	s.Domain = "mail.skerryline.example"
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close() })
	return p, l.Addr().String()
}

var switched = notify.Notice{At: time.Date(2026, 11, 30, 16, 0, 0, 0, time.UTC), Run: "r1", What: "switch",
	State: "done", Site: "tickets.skerryline.example", Move: "tickets-to-drydock", Subject: "tickets: switched över",
	Text: "it stands on drydock; nobody could write for 1.2 s"}

func TestMailAndACommandTell(t *testing.T) {
	p, addr := office(t)
	out := filepath.Join(t.TempDir(), "told")
	s := notify.Settings{To: []string{"runa@skerryline.example", "crew@skerryline.example"},
		From: "alibi@skerryline.example", Server: addr,
		Command: []string{"sh", "-c", `cat > "$0"; echo "$ALIBI_STATE $ALIBI_MOVE" >> "$0"`, out}}
	require.NoError(t, s.Check())
	require.NoError(t, s.Tell(context.Background(), switched))
	assert.Equal(t, s.To, p.to)
	assert.Contains(t, p.text, "nobody could write for 1.2 s")
	assert.Contains(t, p.text, "Subject: =?UTF-8?")
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	var got notify.Notice
	first, rest, _ := bytes.Cut(text, []byte("\n"))
	require.NoError(t, json.Unmarshal(first, &got))
	assert.Equal(t, switched, got)
	assert.Equal(t, "done tickets-to-drydock\n", string(rest))
}

func TestWhatCanNotBeToldIsSaid(t *testing.T) {
	ctx := context.Background()
	_, addr := office(t)
	none := notify.Settings{To: []string{"runa@skerryline.example"}, From: "alibi@skerryline.example",
		Server: "127.0.0.1:1", Command: []string{"sh", "-c", "echo no such desk >&2; exit 3"}}
	err := none.Tell(ctx, switched)
	require.ErrorContains(t, err, "through 127.0.0.1:1")
	assert.ErrorContains(t, err, "no such desk", "both are tried")
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("made up\n"), 0o600))
	open := notify.Settings{To: none.To, From: none.From, Server: addr, User: "runa", PasswordFile: secret,
		Read: secrets.Store{}.Read}
	err = open.Tell(ctx, switched)
	require.Error(t, err, "no password goes out in the open")
	assert.NotContains(t, err.Error(), "made up")
	for _, bad := range []notify.Settings{{To: none.To}, {To: []string{"runa"}, From: none.From, Server: addr},
		{After: "soon"}} {
		assert.Error(t, bad.Check(), "%+v", bad)
	}
	assert.NoError(t, notify.Settings{}.Check())
	assert.True(t, notify.Settings{}.None())
}
