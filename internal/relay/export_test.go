package relay

import (
	"database/sql/driver"
	"io"
	"net/url"
	"strings"
	"time"

	"alibi/internal/host/trust"
)

// Request is a signed request, and its signature.
func (r *Relay) Request(last string) (sign string, body []byte) { return r.request("", last) }

// Parts is a signed request of parts.
func (r *Relay) Parts(parts ...string) (sign string, body []byte) { return r.request(parts...) }

// URL is where the relay's file answers.
func (r *Relay) URL() string { return r.url }

// Ahead is by how many seconds our clock is ahead of the host's, as far as it is known.
func (r *Relay) Ahead() int64     { return r.ahead.Load() }
func (r *Relay) SetAhead(s int64) { r.ahead.Store(s) }

// At is the relay at an address with a new key, and its file's text.
func At(address string, s Server, until time.Time) (*Relay, string) {
	u, _ := url.Parse(address)
	r := &Relay{url: address, key: newKey(), client: trust.Client(u, "", ""), writes: s.Writes}
	return r, script(r.key, s, until)
}

// Read reads an answer to its end.
func (r *Relay) Read(sign, text string) error {
	a, err := newAnswer(io.NopCloser(strings.NewReader(text)), r.key, sign)
	if err != nil {
		return err
	}
	cells := make([]driver.Value, len(a.columns))
	for err == nil {
		err = a.next(cells)
	}
	return err
}
