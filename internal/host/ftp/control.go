package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/textproto"
	"regexp"
	"strconv"
	"strings"
	"time"

	"alibi/internal/host"
)

const (
	// answering is how long the host has for an answer, and moving how long nothing may come of a file.
	answering = 30 * time.Second
	moving    = time.Minute
)

// control is a connection on which commands are said, one at a time (RFC 959, RFC 4217, RFC 3659).
type control struct {
	h    *Host
	tls  *tls.Config // nil: nothing is encrypted
	also *tls.Config // of connections for data
	conn net.Conn
	text *textproto.Conn
	can  map[string]bool // of FEAT, by the first word
	used time.Time
}

// dial opens a connection and signs in.
func (h *Host) dial(ctx context.Context, password string) (*control, error) {
	raw, err := h.connect(ctx, net.JoinHostPort(h.Address(), h.t.port()))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", host.ErrNoAnswer, err)
	}
	c := &control{h: h, conn: raw, can: map[string]bool{}}
	if h.tls != nil {
		kept := &sessions{}
		c.tls, c.also = h.tls.Clone(), h.tls.Clone()
		c.tls.ClientSessionCache, c.also.ClientSessionCache = kept, forData{kept}
	}
	if err = c.greet(ctx); err == nil {
		err = c.signIn(password)
	}
	if err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

// greet waits for the host's first word, and has what follows encrypted.
func (c *control) greet(ctx context.Context) error {
	if c.h.t.implicit() {
		if err := c.secure(ctx); err != nil {
			return err
		}
	}
	c.text = textproto.NewConn(c.conn)
	if _, _, err := c.read(220); err != nil {
		return fmt.Errorf("%w: %w", host.ErrNoAnswer, err)
	}
	if c.tls == nil || c.h.t.implicit() {
		return nil
	}
	if _, err := c.say(234, "AUTH TLS"); err != nil {
		return fmt.Errorf("it does not encrypt (AUTH TLS): %w", err)
	}
	if err := c.secure(ctx); err != nil {
		return err
	}
	c.text = textproto.NewConn(c.conn)
	return nil
}

// secure goes on encrypted.
func (c *control) secure(ctx context.Context) error {
	s := tls.Client(c.conn, c.tls)
	_ = c.conn.SetDeadline(time.Now().Add(answering))
	if err := s.HandshakeContext(ctx); err != nil {
		return fmt.Errorf("encrypting the connection to %s: %w", c.h.t.Host, err)
	}
	c.conn = s
	return nil
}

func (c *control) signIn(password string) error {
	code, _, err := c.ask("USER " + c.h.t.User)
	if err == nil && code == 331 {
		code, _, err = c.ask("PASS " + password)
	}
	if code == 530 || code == 430 {
		return host.ErrAuth
	}
	if err != nil {
		return err
	}
	_, features, err := c.ask("FEAT")
	if err == nil {
		for _, f := range strings.Split(features, "\n") {
			word, _, _ := strings.Cut(strings.TrimSpace(f), " ")
			c.can[strings.ToUpper(word)] = true
		}
	}
	if c.can["UTF8"] {
		_, _, _ = c.ask("OPTS UTF8 ON") // many do that anyway
	}
	setup := []string{"TYPE I"}
	if c.tls != nil {
		setup = append(setup, "PBSZ 0", "PROT P")
	}
	for _, q := range setup {
		if _, err := c.say(200, q); err != nil {
			return err
		}
	}
	return nil
}

func (c *control) close() {
	if c.text != nil {
		_ = c.conn.SetDeadline(time.Now().Add(time.Second))
		_, _ = c.text.Cmd("QUIT")
	}
	c.conn.Close()
}

// errBroken is given where a connection is of no use any more.
var errBroken = errors.New("the connection broke")

// errSpent is given where what was sent can't be sent again.
var errSpent = errors.New("what was sent is lost")

// read reads an answer; expect is its code, or the first digit of it.
func (c *control) read(expect int) (int, string, error) {
	_ = c.conn.SetDeadline(time.Now().Add(answering))
	code, text, err := c.text.ReadResponse(expect)
	c.used = time.Now()
	var said *textproto.Error
	if err != nil && !errors.As(err, &said) {
		return code, text, fmt.Errorf("%w: %w", errBroken, err)
	}
	if code == 421 {
		return code, text, fmt.Errorf("%w: %w", errBroken, err)
	}
	return code, text, explain(err)
}

// ask says a command and gives any answer that is no refusal.
func (c *control) ask(command string) (int, string, error) {
	if err := c.write(command); err != nil {
		return 0, "", err
	}
	code, text, err := c.read(0)
	if err == nil && code >= 400 {
		err = explain(&textproto.Error{Code: code, Msg: text})
	}
	return code, text, err
}

// say says a command whose answer has a code.
func (c *control) say(expect int, command string) (string, error) {
	if err := c.write(command); err != nil {
		return "", err
	}
	_, text, err := c.read(expect)
	return text, err
}

func (c *control) write(command string) error {
	if !sayable(command) {
		return errUnsayable
	}
	_ = c.conn.SetDeadline(time.Now().Add(answering))
	if _, err := c.text.Cmd("%s", command); err != nil {
		return fmt.Errorf("%w: %w", errBroken, err)
	}
	return nil
}

// errUnsayable is given for names that the protocol has no way to say: it says lines, in which 255 begins a command of
// Telnet.
var errUnsayable error = unsayable{}

// unsayable is a refusal as any other: such a file is left out, and named.
type unsayable struct{}

func (unsayable) Error() string { return "FTP can't say a name with a line break or the byte 255" }

func (unsayable) Is(target error) bool { return target == fs.ErrPermission }

func sayable(s string) bool {
	return strings.IndexFunc(s, func(c rune) bool { return c == '\r' || c == '\n' || c == 0 }) < 0 &&
		strings.IndexByte(s, 255) < 0
}

// explain gives a refusal its kind. Servers have one code (550) for whatever hinders them, and a text for people.
func explain(err error) error {
	var said *textproto.Error
	if !errors.As(err, &said) || said.Code != 550 && said.Code != 450 && said.Code != 553 {
		return err
	}
	text := strings.ToLower(said.Msg)
	switch {
	case strings.Contains(text, "permission"), strings.Contains(text, "denied"), strings.Contains(text, "not permitted"):
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case strings.Contains(text, "exist") && !strings.Contains(text, "not exist"):
		return fmt.Errorf("%w: %w", fs.ErrExist, err)
	}
	return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
}

var (
	extended = regexp.MustCompile(`\|\|\|(\d+)\|`)
	passive  = regexp.MustCompile(`\d+,\d+,\d+,\d+,(\d+),(\d+)`)
)

// data opens the connection for what a command gives or takes, and says the command. A host that names another address
// for it is not believed: it is the one that was dialled.
func (c *control) data(command string) (net.Conn, error) {
	port := ""
	if text, err := c.say(229, "EPSV"); err == nil {
		if m := extended.FindStringSubmatch(text); m != nil {
			port = m[1]
		}
	} else if errors.Is(err, errBroken) {
		return nil, err
	}
	if port == "" {
		text, err := c.say(227, "PASV")
		if err != nil {
			return nil, err
		}
		m := passive.FindStringSubmatch(text)
		if m == nil {
			return nil, fmt.Errorf("the host names no port: %q", text)
		}
		port = strconv.Itoa(number(m[1])<<8 | number(m[2]))
	}
	at, _, err := net.SplitHostPort(c.conn.RemoteAddr().String())
	if err != nil {
		return nil, err
	}
	raw, err := c.h.connect(context.Background(), net.JoinHostPort(at, port))
	if err != nil {
		return nil, fmt.Errorf("%w: the connection for data: %w", errBroken, err)
	}
	if err := c.write(command); err != nil {
		raw.Close()
		return nil, err
	}
	if _, _, err := c.read(1); err != nil {
		raw.Close()
		return nil, err
	}
	if c.tls == nil {
		return raw, nil
	}
	s := tls.Client(raw, c.also)
	_ = raw.SetDeadline(time.Now().Add(answering))
	if err := s.Handshake(); err != nil {
		raw.Close()
		return nil, fmt.Errorf("%w: encrypting the connection for data: %w", errBroken, err)
	}
	return s, nil
}
