// Package secrets keeps secrets by name: in one file that is encrypted with age for a key that a person has
// (https://age-encryption.org/v1), or in the system's keyring (Secret Service). What names one is
// "secret:NAME" in the place of a file's path.
package secrets

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/zalando/go-keyring"
	"golang.org/x/sys/unix"
)

// Prefix begins what names a secret, where else a file is named.
const Prefix = "secret:"

// ErrUnknown is given for a secret that is not kept.
var ErrUnknown = errors.New("no secret is kept by this name")

// Store is where secrets are kept.
type Store struct {
	Path string // of the file
	Key  string // a file with the age key that it is encrypted for; "": the system's keyring is used, and no file
}

// service is what ours are called in the keyring, and index the entry with their names.
const (
	service = "alibi"
	index   = " names"
)

var plain = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// Whole is a text that says where a secret is, or names a file of this machine, as it can be kept: a file by its whole
// path, wherever the process stands that reads it later.
func Whole(where string) (string, error) {
	if where == "" || strings.HasPrefix(where, Prefix) {
		return where, nil
	}
	if rest, is := strings.CutPrefix(where, "~/"); is {
		home, err := os.UserHomeDir()
		return filepath.Join(home, rest), err
	}
	return filepath.Abs(where)
}

// Read gives a secret from where a text says that it is: by its name, or the first line of a file.
func (s Store) Read(where string) (string, error) {
	if name, is := strings.CutPrefix(where, Prefix); is {
		return s.Get(name)
	}
	b, err := os.ReadFile(where)
	return strings.TrimRight(string(b), "\r\n"), err
}

// Get gives a secret.
func (s Store) Get(name string) (string, error) {
	all, err := s.all()
	if err != nil {
		return "", err
	}
	v, known := all[name]
	if !known {
		return "", fmt.Errorf("%q: %w: alibi secrets put %s", name, ErrUnknown, name)
	}
	if s.Key != "" {
		return v, nil
	}
	if v, err = keyring.Get(service, name); err != nil {
		return "", fmt.Errorf("%q in the system's keyring: %w", name, err)
	}
	return v, nil
}

// Put keeps a secret, in place of one of the same name.
func (s Store) Put(name, secret string) error {
	if !plain.MatchString(name) {
		return fmt.Errorf("%q can't be a secret's name: use a-z, 0-9, dots, - and _", name)
	}
	if secret == "" {
		return errors.New("the secret is empty: nothing was kept")
	}
	return s.change(func(all map[string]string) error {
		all[name] = secret
		if s.Key == "" {
			all[name] = ""
			return keyring.Set(service, name, secret)
		}
		return nil
	})
}

// Remove forgets a secret.
func (s Store) Remove(name string) error {
	return s.change(func(all map[string]string) error {
		if _, known := all[name]; !known {
			return fmt.Errorf("%q: %w", name, ErrUnknown)
		}
		delete(all, name)
		if s.Key == "" {
			return keyring.Delete(service, name)
		}
		return nil
	})
}

// Names are those of all.
func (s Store) Names() ([]string, error) {
	all, err := s.all()
	return slices.Sorted(maps.Keys(all)), err
}

// all gives the secrets by name; of the keyring's only the names.
func (s Store) all() (map[string]string, error) {
	out := map[string]string{}
	var text []byte
	if s.Key == "" {
		names, err := keyring.Get(service, index)
		switch {
		case errors.Is(err, keyring.ErrNotFound):
			return out, nil
		case err != nil:
			return nil, fmt.Errorf("the system has no keyring that answers (%w): name a file with an age key as secrets.key "+
				"in config.toml", err)
		}
		text = []byte(names)
	} else {
		sealed, err := os.ReadFile(s.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("reading the secrets: %w", err)
		}
		keys, err := s.keys()
		if err != nil {
			return nil, err
		}
		r, err := age.Decrypt(bytes.NewReader(sealed), keys...)
		if err == nil {
			text, err = io.ReadAll(r)
		}
		if err != nil {
			return nil, fmt.Errorf("the key in %s does not open the secrets: %w", s.Key, err)
		}
	}
	if err := json.Unmarshal(text, &out); err != nil {
		return nil, fmt.Errorf("the secrets are no secrets of ours: %w", err)
	}
	return out, nil
}

func (s Store) keys() ([]age.Identity, error) {
	f, err := os.Open(s.Key)
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets: %w", err)
	}
	defer f.Close()
	keys, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("the key of the secrets, %s: %w", s.Key, err)
	}
	return keys, nil
}

// alone keeps other processes from changing what is kept until done.
func (s Store) alone() (done func(), err error) {
	f, err := os.OpenFile(s.Path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX)
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the secrets: %w", err)
	}
	return func() { f.Close() }, nil
}

// change changes what is kept, whole or not at all.
func (s Store) change(do func(all map[string]string) error) error {
	done, err := s.alone()
	if err != nil {
		return err
	}
	defer done()
	all, err := s.all()
	if err != nil {
		return err
	}
	if err := do(all); err != nil {
		return err
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if s.Key == "" {
		return keyring.Set(service, index, string(text))
	}
	keys, err := s.keys()
	if err != nil {
		return err
	}
	var to []age.Recipient
	for _, k := range keys {
		if x, is := k.(*age.X25519Identity); is {
			to = append(to, x.Recipient())
		}
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to...)
	if err == nil {
		_, err = w.Write(text)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return fmt.Errorf("encrypting the secrets: %w", err)
	}
	f, err := os.CreateTemp(filepath.Dir(s.Path), ".secrets-")
	if err != nil {
		return fmt.Errorf("keeping the secrets: %w", err)
	}
	defer os.Remove(f.Name()) // it is gone, if all went well
	_, err = f.Write(sealed.Bytes())
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), s.Path)
	}
	if err != nil {
		return fmt.Errorf("keeping the secrets: %w", err)
	}
	return nil
}
