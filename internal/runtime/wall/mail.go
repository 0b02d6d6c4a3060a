package wall

import (
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Mailbox takes mail that a copy hands in by SMTP, whatever server it means to talk to, and whoever it says it is.
type Mailbox struct {
	// Keep writes a message (RFC 5322) down.
	Keep func(message io.Reader) error
}

// largestMail is how large a message may be, in bytes.
const largestMail = 64 << 20

// Serve talks SMTP (RFC 5321) on a connection until it ends.
func (m *Mailbox) Serve(c net.Conn) {
	s := smtp.NewServer(m)
	s.Domain, s.MaxMessageBytes, s.MaxRecipients, s.AllowInsecureAuth = "copy", largestMail, 1000, true
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	_ = s.Serve(&one{c: c, done: make(chan struct{})}) // it ends with the connection
}

// one is a listener that gives one connection, and ends with it.
type one struct {
	c    net.Conn
	gave bool
	done chan struct{}
}

func (o *one) Accept() (net.Conn, error) {
	if !o.gave {
		o.gave = true
		return &ending{Conn: o.c, ended: func() { close(o.done) }}, nil
	}
	<-o.done
	return nil, net.ErrClosed
}

func (o *one) Close() error   { return nil }
func (o *one) Addr() net.Addr { return o.c.LocalAddr() }

// ending tells when it is closed, once.
type ending struct {
	net.Conn
	ended func()
}

func (e *ending) Close() error {
	if e.ended != nil {
		e.ended()
		e.ended = nil
	}
	return e.Conn.Close()
}

// NewSession begins what one client says.
func (m *Mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{m: m}, nil }

type session struct {
	m    *Mailbox
	from string
	to   []string
}

// AuthMechanisms are those that every client knows; any name and password will do.
func (*session) AuthMechanisms() []string { return []string{sasl.Plain, sasl.Login} }

func (*session) Auth(mech string) (sasl.Server, error) {
	if mech == sasl.Login {
		return &login{}, nil
	}
	return sasl.NewPlainServer(func(string, string, string) error { return nil }), nil
}

// login takes a name and a password, one after the other (the mechanism that many clients still use).
type login struct{ said int }

func (l *login) Next(says []byte) (challenge []byte, done bool, err error) {
	if l.said++; l.said == 1 && len(says) > 0 {
		l.said++ // the name came with the question
	}
	switch l.said {
	case 1:
		return []byte("Username:"), false, nil
	case 2:
		return []byte("Password:"), false, nil
	}
	return nil, true, nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

// Data writes the message down, with those to whom it goes, as a server notes them.
func (s *session) Data(r io.Reader) error {
	head := fmt.Sprintf("Return-Path: <%s>\r\n", s.from)
	for _, to := range s.to {
		head += fmt.Sprintf("Delivered-To: %s\r\n", to)
	}
	return s.m.Keep(io.MultiReader(strings.NewReader(head), r))
}

func (s *session) Reset()      { s.from, s.to = "", nil }
func (*session) Logout() error { return nil }
