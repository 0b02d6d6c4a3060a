package ssh

import (
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"github.com/skeema/knownhosts"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"alibi/internal/host"
)

// auth gives the ways to sign in, in the order in which they are tried: the
// agent, key files, a password that is asked for. The function ends the use of
// the agent.
func (h *Host) auth(ask Asker) ([]ssh.AuthMethod, func()) {
	var methods []ssh.AuthMethod
	done := func() {}
	sock := os.Getenv("SSH_AUTH_SOCK")
	if a := h.target.agent; a != "" && a != "SSH_AUTH_SOCK" {
		sock = tilde(a)
	}
	if sock != "" {
		if conn, err := net.Dial("unix", sock); err == nil {
			methods = append(methods, ssh.PublicKeysCallback(agent.NewClient(conn).Signers))
			done = func() { conn.Close() }
		}
	}
	methods = append(methods, ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
		var signers []ssh.Signer
		for _, f := range h.target.keys {
			if s, err := h.signer(f, ask); err == nil {
				signers = append(signers, s)
			}
		}
		return signers, nil
	}))
	word, tries := h.opt.Password, 1
	if _, nobody := h.opt.Asker.(Nobody); word == nil && !nobody {
		tries = 3
		word = func() (string, error) {
			return ask.Secret(fmt.Sprintf("password of %s on %s", h.target.User, h.name))
		}
	}
	if word != nil {
		methods = append(methods, ssh.RetryableAuthMethod(ssh.PasswordCallback(word), tries),
			ssh.RetryableAuthMethod(ssh.KeyboardInteractive(answering(word)), tries))
	}
	return methods, done
}

// answering answers with a password where a server asks for just that in a dialogue (RFC 4256); for more, such as a
// second factor, nobody is there.
func answering(word func() (string, error)) ssh.KeyboardInteractiveChallenge {
	return func(_, _ string, questions []string, echos []bool) ([]string, error) {
		switch {
		case len(questions) == 0: // it only says something
			return nil, nil
		case len(questions) > 1 || echos[0]:
			return nil, fmt.Errorf("%w: it asks for more than a password: %q", host.ErrAuth, questions)
		}
		s, err := word()
		return []string{s}, err
	}
}

func (h *Host) signer(file string, ask Asker) (ssh.Signer, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	s, err := ssh.ParsePrivateKey(b)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		return s, err
	}
	for range 3 {
		pass, aerr := ask.Secret("passphrase of " + filepath.Base(file))
		if aerr != nil {
			return nil, aerr
		}
		if s, err = ssh.ParsePrivateKeyWithPassphrase(b, []byte(pass)); !errors.Is(err, x509.IncorrectPasswordError) {
			break
		}
	}
	return s, err
}

// hostKeys gives the check of the host's key: known ones pass, changed ones
// are refused, and a person decides on unknown ones.
func (h *Host) hostKeys(addr string, ask Asker) (ssh.HostKeyCallback, []string, error) {
	var files []string
	for _, f := range h.opt.KnownHosts {
		if _, err := os.Stat(f); err == nil {
			files = append(files, f)
		}
	}
	db, err := knownhosts.NewDB(files...)
	if err != nil {
		return nil, nil, fmt.Errorf("reading known hosts (%s): %w", strings.Join(files, ", "), err)
	}
	known := db.HostKeyCallback()
	return func(name string, remote net.Addr, key ssh.PublicKey) error {
		err := known(name, remote, key)
		print := ssh.FingerprintSHA256(key)
		switch {
		case err == nil:
			return nil
		case knownhosts.IsHostKeyChanged(err):
			return fmt.Errorf(
				"host %s shows the key %s, which is not the one that is known: %w; somebody may be listening in. If "+
					"the machine was set up anew, remove its line from %s",
				h.name,
				print,
				host.ErrHostKey,
				strings.Join(files, " or "),
			)
		case !knownhosts.IsHostUnknown(err):
			return err
		}
		yes, err := ask.HostKey(h.name+" ("+name+")", key.Type()+" "+print)
		if err != nil {
			return err
		}
		if !yes {
			return fmt.Errorf(
				"host %s shows the key %s, which is not known yet: %w; compare it with what the host's keeper told "+
					"you, and accept it at a terminal: alibi host add",
				h.name,
				print,
				host.ErrHostKey,
			)
		}
		return h.learn(name, remote, key)
	}, db.HostKeyAlgorithms(addr), nil
}

// learn adds a key to our own file.
func (h *Host) learn(name string, remote net.Addr, key ssh.PublicKey) error {
	if len(h.opt.KnownHosts) == 0 {
		return nil
	}
	f, err := os.OpenFile(h.opt.KnownHosts[0], os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("keeping the key of %s: %w", h.name, err)
	}
	defer f.Close()
	return knownhosts.WriteKnownHost(f, name, remote, key)
}
