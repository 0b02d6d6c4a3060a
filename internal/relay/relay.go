// Package relay reaches a database that only a site itself can reach: a PHP file is put beside the site for the time of
// a run, and answers signed requests with rows. docs/formats/relay.md has what is said.
//
// Each request is a connection of its own on the database server, so that no two of them see one state. What is read so
// is looked at again afterwards; see tables.Loose. A transaction is one request, which has all of it; see transaction.
package relay

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"alibi/internal/tables"
)

// Errors that callers decide on.
var (
	// ErrElsewhere is given where what an address shows is not the folder that the file was put into.
	ErrElsewhere = errors.New("the address does not show this folder")
	// ErrNoPHP is given where the address shows PHP files as text.
	ErrNoPHP = errors.New("the host runs no PHP at this address")
	// ErrRefused is given where the file is there and does not take a request.
	ErrRefused = errors.New("the relay refuses the request")
)

// Life is how long a relay answers, after which it removes itself when it is asked for.
const Life = 2 * time.Hour

//go:embed relay.php
var source string

// forWrites is the part of it that writes.
//
//go:embed write.php
var forWrites string

// forFiles is what one has beside that reaches files, and no database.
//
//go:embed files.php
var forFiles string

// Server is the database's server as the site's own code reaches it.
type Server struct {
	Host, Socket   string
	Port           int
	User, Password string
	Writes         bool // the database may be changed
}

// Relay is a file that is in its place.
type Relay struct {
	url    string
	key    []byte
	client *http.Client
	writes bool
	gone   atomic.Bool // it was seen not to be there any more, or is not to be used
	number atomic.Int64
	kept   atomic.Int64 // how often statements were brought before they were run
	ahead  atomic.Int64 // of our clock, in seconds
	until  time.Time
	busy   atomic.Int64 // requests of which no answer has begun
	asked  atomic.Int64 // when it was last at work, in nanoseconds since 1970
}

// Left is how long it answers still; 0 when it was seen not to any more.
func (r *Relay) Left() time.Duration {
	if r.gone.Load() {
		return 0
	}
	return max(0, time.Until(r.until))
}

// Idle is how long it was not asked, and at work on nothing.
func (r *Relay) Idle() time.Duration {
	if r.busy.Load() > 0 {
		return 0
	}
	return time.Since(time.Unix(0, r.asked.Load()))
}

// Answers tells whether it does, and reaches the database.
func (r *Relay) Answers(ctx context.Context) error {
	return r.tell(ctx, "", "SELECT 1")
}

// End has it remove what it made on the host, and itself if its account may: what is left is for Remove.
func (r *Relay) End(ctx context.Context) error {
	defer r.client.CloseIdleConnections()
	return r.tell(ctx, "", "END")
}

// tell asks for what has no rows.
func (r *Relay) tell(ctx context.Context, parts ...string) error {
	a, err := r.ask(ctx, parts)
	if err != nil {
		return err
	}
	return a.body.Close()
}

// script is the file's text: the key and the account are known to it and to us.
func script(key []byte, s Server, until time.Time) string {
	quote := func(v string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'"
	}
	out := strings.Replace(source, "$until = 0;", fmt.Sprintf("$until = %d;", until.Unix()), 1)
	out = strings.Replace(out, "$key = '';", "$key = pack('H*', '"+hex.EncodeToString(key)+"');", 1)
	out = strings.Replace(out, "$writes = false;", fmt.Sprintf("$writes = %t;", s.Writes), 1)
	at, _, _ := strings.Cut(source[strings.Index(source, "$db = "):], "\n")
	out = strings.Replace(out, at, fmt.Sprintf(
		"$db = array('host' => %s, 'port' => %d, 'socket' => %s, 'user' => %s, 'password' => %s);",
		quote(s.Host), s.Port, quote(s.Socket), quote(s.User), quote(s.Password)), 1)
	return out + strings.TrimPrefix(forWrites, "<?php")
}

// newKey makes the key of one run.
func newKey() []byte {
	key := make([]byte, 32)
	_, _ = rand.Read(key)
	return key
}

// framed puts parts one after the other, each with its length before it.
func framed(to *bytes.Buffer, parts ...string) {
	for _, part := range parts {
		_ = binary.Write(to, binary.BigEndian, uint32(len(part)))
		to.WriteString(part)
	}
}

// request signs parts: the name of a database, and statements, of which the last one is answered.
func (r *Relay) request(parts ...string) (sign string, body []byte) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%d %d\n", time.Now().Unix()-r.ahead.Load(), r.number.Add(1))
	framed(&b, parts...)
	m := hmac.New(sha256.New, r.key)
	m.Write(b.Bytes())
	sign = hex.EncodeToString(m.Sum(nil))
	return sign, append([]byte(sign), b.Bytes()...)
}

// most is how much one request has at most, in bytes: many hosts take 1 MB, PHP by itself 8.
const most = 512 << 10

// keptHead stands before statements in a file: who asks a web server for that is shown nothing of it.
const keptHead = "<?php exit; ?>\n"

// run has statements run by one connection, of which the last one is answered. Many or long ones are brought piece by
// piece before.
func (r *Relay) run(ctx context.Context, database string, statements []string) (*answer, error) {
	length := 0
	for _, s := range statements {
		length += 4 + len(s)
	}
	if length <= most {
		return r.ask(ctx, append([]string{database}, statements...))
	}
	var all bytes.Buffer
	framed(&all, statements...)
	sum, id := sha256.Sum256(append([]byte(keptHead), all.Bytes()...)), strconv.FormatInt(r.kept.Add(1), 10)
	for at := 0; all.Len() > 0; {
		piece := string(all.Next(most))
		if err := r.tell(ctx, database, id, strconv.Itoa(at), piece, "KEEP"); err != nil {
			return nil, err
		}
		at += len(piece)
	}
	return r.ask(ctx, []string{database, id, hex.EncodeToString(sum[:]), "RUN"})
}

// ask sends a request, again with the host's own time where its clock is another.
func (r *Relay) ask(ctx context.Context, parts []string) (*answer, error) {
	r.busy.Add(1)
	defer func() {
		r.asked.Store(time.Now().UnixNano())
		r.busy.Add(-1)
	}()
	for try := 0; ; try++ {
		sign, body := r.request(parts...)
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, r.url, bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Content-Type", "application/octet-stream")
		res, err := r.client.Do(req)
		if err != nil {
			return nil, r.away(ctx, err)
		}
		if res.StatusCode == http.StatusOK {
			return newAnswer(res.Body, r.key, sign)
		}
		text, _ := io.ReadAll(io.LimitReader(res.Body, 200))
		res.Body.Close()
		if now, late := strings.CutPrefix(string(text), "late "); late && try == 0 {
			if at, err := strconv.ParseInt(strings.TrimSpace(now), 10, 64); err == nil {
				r.ahead.Store(time.Now().Unix() - at)
				continue
			}
		}
		return nil, fmt.Errorf("%w: %s answers %s %q", r.refused(res.StatusCode), r.url, res.Status, text)
	}
}

// refused tells what a status means: a host that is busy answers again later.
func (r *Relay) refused(status int) error {
	if status >= 500 {
		return tables.ErrAway
	}
	r.gone.Store(status == http.StatusNotFound)
	return ErrRefused
}

func (r *Relay) away(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: %w", tables.ErrAway, err)
}
