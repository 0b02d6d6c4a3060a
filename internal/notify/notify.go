// Package notify tells people and programs what became of a run: by mail, and by a command of their own.
package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

// Settings say who is told. The zero value tells nobody.
type Settings struct {
	To           []string `toml:"to" comment:"mail addresses of who is told"`
	From         string   `toml:"from" comment:"the mail address that notices come from"`
	Server       string   `toml:"server" comment:"mail server, HOST or HOST:PORT (587)"`
	User         string   `toml:"user" comment:"account there; empty: none is needed"`
	PasswordFile string   `toml:"password_file" comment:"file with its password"`
	Command      []string `toml:"command" comment:"a program and its arguments; it reads the notice as JSON"`
	After        string   `toml:"after" comment:"also of any run that took so long, such as 10m; empty: of moves only"`

	// Read gives the password from where PasswordFile says that it is.
	Read func(where string) (string, error) `toml:"-" json:"-"`
}

// None tells whether nobody is told.
func (s Settings) None() bool { return len(s.To)+len(s.Command) == 0 }

// Check says what is wrong with the settings.
func (s Settings) Check() error {
	if len(s.To) > 0 && (s.From == "" || s.Server == "") {
		return errors.New("notices.to: name the address that notices come from (from) and the mail server (server) too")
	}
	for _, a := range append([]string{s.From}, s.To...) {
		if a != "" && mail.NewMsg().To(a) != nil {
			return fmt.Errorf("notices: %q is no mail address", a)
		}
	}
	_, err := s.Least()
	return err
}

// Least is how long a run takes at least that is told of whatever it is; 0: none is.
func (s Settings) Least() (time.Duration, error) {
	if s.After == "" {
		return 0, nil
	}
	d, err := time.ParseDuration(s.After)
	if err != nil || d < time.Second {
		return 0, fmt.Errorf("notices.after: %q is no time from 1s on, such as 10m", s.After)
	}
	return d, nil
}

// Notice is what is told.
type Notice struct {
	At      time.Time `json:"at"`
	Run     string    `json:"run,omitempty"`
	What    string    `json:"what"`  // the operation, such as "move switch"
	State   string    `json:"state"` // "done", "failed" and so on
	Site    string    `json:"site,omitempty"`
	Move    string    `json:"move,omitempty"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
}

// patience is for how long a server or a command is waited for.
const patience = 20 * time.Second

// Tell tells all who are to be told; what could not be done of it is one error.
func (s Settings) Tell(ctx context.Context, n Notice) error {
	ctx, cancel := context.WithTimeout(ctx, 2*patience)
	defer cancel()
	var byMail, byCommand error
	if len(s.To) > 0 {
		byMail = s.mail(ctx, n)
	}
	if len(s.Command) > 0 {
		byCommand = s.run(ctx, n)
	}
	return errors.Join(byMail, byCommand)
}

func (s Settings) mail(ctx context.Context, n Notice) error {
	m := mail.NewMsg()
	if err := errors.Join(m.From(s.From), m.To(s.To...)); err != nil {
		return fmt.Errorf("mailing a notice: %w", err)
	}
	m.Subject(n.Subject)
	m.SetDateWithValue(n.At)
	m.SetMessageID()
	m.SetBodyString(mail.TypeTextPlain, n.Text+"\n")
	c, err := s.client()
	if err == nil {
		err = c.DialAndSendWithContext(ctx, m)
	}
	if err != nil {
		return fmt.Errorf("mailing a notice through %s: %w", s.Server, err)
	}
	return nil
}

// client speaks to the mail server: with TLS wherever it can, and never without where there is a password.
func (s Settings) client() (*mail.Client, error) {
	name, port := s.Server, "587"
	if h, p, err := net.SplitHostPort(s.Server); err == nil {
		name, port = h, p
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("its port %q is no number", port)
	}
	opt := []mail.Option{mail.WithPort(n), mail.WithTimeout(patience), mail.WithTLSPolicy(mail.TLSOpportunistic)}
	if n == 465 {
		opt = append(opt, mail.WithSSL())
	}
	if s.User != "" {
		secret, err := s.Read(s.PasswordFile)
		if err != nil {
			return nil, fmt.Errorf("the password of %s is not known: %w", s.User, err)
		}
		opt = append(opt, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(s.User), mail.WithPassword(secret))
	}
	return mail.NewClient(name, opt...)
}

// run has the command read the notice, and has its parts in its environment too.
func (s Settings) run(ctx context.Context, n Notice) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
	c.Stdin = bytes.NewReader(append(text, '\n'))
	c.Env = append(os.Environ(), "ALIBI_WHAT="+n.What, "ALIBI_STATE="+n.State, "ALIBI_SITE="+n.Site,
		"ALIBI_MOVE="+n.Move, "ALIBI_RUN="+n.Run, "ALIBI_SUBJECT="+n.Subject)
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	if err != nil {
		return fmt.Errorf("telling %s: %w: %s", s.Command[0], err, bytes.TrimSpace(out[max(0, len(out)-300):]))
	}
	return nil
}
