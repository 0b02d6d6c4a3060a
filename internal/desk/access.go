package desk

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"alibi/internal/access"
	"alibi/internal/host"
	"alibi/internal/host/local"
	"alibi/internal/inventory"
	"alibi/internal/secrets"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

// sheetFile is where a sheet is kept; a name is one that a host can have.
func (d *core) sheetFile(name, end string) (string, error) {
	if name == "" || name != site.Slug(name) {
		return "", fmt.Errorf("%q can't be a sheet's name, which becomes a host's: use a-z, 0-9 and -", name)
	}
	return filepath.Join(d.opt.Home, "access", name+end), nil
}

// Sheets names the access sheets.
func (d *Fleet) Sheets() (out []string, err error) {
	list, err := os.ReadDir(filepath.Join(d.opt.Home, "access"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range list {
		if name, is := strings.CutSuffix(e.Name(), ".toml"); is {
			out = append(out, name)
		}
	}
	return out, err
}

// Sheet gives an access sheet; one that is not there yet has what the record knows of a host of that name.
func (d *Fleet) Sheet(name string) (access.Sheet, error) {
	file, err := d.sheetFile(name, ".toml")
	if err != nil {
		return access.Sheet{}, err
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		h, err := d.record.Host(context.Background(), name)
		if err != nil {
			return access.Sheet{}, nil //nolint:nilerr // it is not in the record: nothing is known
		}
		return sheetOf(h), nil
	}
	if err != nil {
		return access.Sheet{}, fmt.Errorf("reading the access sheet: %w", err)
	}
	s, err := access.Read(text)
	if err != nil {
		return s, fmt.Errorf("%s: %w", file, err)
	}
	return s, nil
}

// PutSheet keeps an access sheet.
func (d *Fleet) PutSheet(name string, s access.Sheet) error {
	file, err := d.sheetFile(name, ".toml")
	if err != nil {
		return err
	}
	return keepFile(file, access.Write(s))
}

// keepFile writes a file that only its owner reads, whole or not at all.
func keepFile(file string, text []byte) error {
	dir := filepath.Dir(file)
	err := os.MkdirAll(dir, 0o700)
	if err == nil {
		var root host.Root
		if root, err = local.New("").Write(context.Background(), dir); err == nil {
			defer root.Close()
			_, err = host.Put(root, filepath.Base(file), 0o600, time.Time{}, bytes.NewReader(text))
		}
	}
	if err != nil {
		return fmt.Errorf("keeping the access sheet: %w", err)
	}
	return nil
}

// RemoveSheet forgets a sheet. The host, its secrets and a key that was made for it stay.
func (d *Fleet) RemoveSheet(name string) error {
	file, err := d.sheetFile(name, ".toml")
	if err != nil {
		return err
	}
	err = os.Remove(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("no access sheet is called %s; see: alibi access", name)
	case err != nil:
		return fmt.Errorf("removing the access sheet: %w", err)
	}
	return nil
}

// ReadSheet takes a sheet from a text. A password that stands in it is put among the secrets, and named in its place;
// moved says of which fields.
func (d *Fleet) ReadSheet(name string, text []byte) (s access.Sheet, moved []string, err error) {
	if s, err = access.Read(text); err != nil {
		return s, nil, err
	}
	for _, f := range access.Fields {
		v := f.Get(s)
		if f.Secret && v != "" && !access.Names(v) {
			as, err := d.keepSecret(name, f.Name, v)
			if err != nil {
				return s, moved, err
			}
			v, moved = as, append(moved, f.Name)
		}
		if err := f.Set(&s, v); err != nil {
			return s, moved, err
		}
	}
	return s, moved, d.PutSheet(name, s)
}

// keepSecret puts a password of a sheet among the secrets, and names it.
func (d *Fleet) keepSecret(name, field, v string) (string, error) {
	as := name + "-" + strings.ReplaceAll(field, "_", "-")
	if err := d.safe().Put(as, v); err != nil {
		return "", fmt.Errorf("keeping the secret of %s: %w", field, err)
	}
	return secrets.Prefix + as, nil
}

// SetField puts something into a field of a sheet. typed is a password itself, which is put among the secrets.
func (d *Fleet) SetField(name, field, v string, typed bool) error {
	f, err := access.Find(field)
	if err != nil {
		return err
	}
	s, err := d.Sheet(name)
	if err != nil {
		return err
	}
	if typed && f.Secret && v != "" && !access.Names(v) {
		if v, err = d.keepSecret(name, field, v); err != nil {
			return err
		}
	}
	if err := f.Set(&s, v); err != nil {
		return err
	}
	return d.PutSheet(name, s)
}

// MakeKey makes a pair of keys for a sheet, and gives the line for the host's keeper to add to its authorized_keys.
func (d *Fleet) MakeKey(name string) (string, error) {
	s, err := d.Sheet(name)
	if err != nil {
		return "", err
	}
	if s.Key != "" {
		return "", fmt.Errorf("the sheet %s names a key already: %s", name, s.Key)
	}
	file, err := d.sheetFile(name, ".key")
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(file); err == nil {
		return "", fmt.Errorf("there is a key in %s already: name it as key, or remove it", file)
	}
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	block, err := ssh.MarshalPrivateKey(key, "alibi "+name)
	if err != nil {
		return "", err
	}
	if err := keepFile(file, pem.EncodeToMemory(block)); err != nil {
		return "", err
	}
	line, err := ssh.NewPublicKey(pub)
	if err != nil {
		return "", err
	}
	s.Key = file
	return string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(line))) + " alibi-" + name, d.PutSheet(name, s)
}

// sheetOf is what the record knows of a host.
func sheetOf(h inventory.Host) access.Sheet {
	s := access.Sheet{Way: access.SSH, Host: h.Addr, Port: h.Port, User: h.User, Key: h.Key, Fingerprint: h.Pin,
		Password: h.PasswordFile, Client: h.Client, DatabaseServer: h.Server.Address, DatabaseUser: h.Server.User,
		DatabasePassword: h.Server.PasswordFile}
	switch {
	case h.BySite():
		h.User = ""
		s.Way, s.Address, s.Host, s.Port = access.Site, h.Where(), "", ""
	case h.Way != "":
		s.Way = h.Way
	}
	return s
}

// hostOf is the host that a sheet tells of.
func hostOf(name string, s access.Sheet) inventory.Host {
	h := inventory.Host{Name: name, Addr: s.Host, Port: s.Port, User: s.User, Key: s.Key, Pin: s.Fingerprint,
		PasswordFile: s.Password, Client: s.Client}
	switch s.Way {
	case access.FTPS, access.FTP:
		h.Way = s.Way
	case access.Site:
		a, err := site.ParseAddress(s.Address)
		if err != nil { // it was looked at before
			a = site.Address{Scheme: "https"}
		}
		h.Addr, h.Port = a.Scheme+"://"+a.HostPort()+a.Path, ""
	}
	return h
}

// TrySheet sees how it is with each field, and tries those that have the right form: it signs in, opens the document
// root, and asks the database server. Nothing is written anywhere. By a site's own pages nothing can be tried without
// writing: that is said.
func (d *Fleet) TrySheet(ctx context.Context, name string) ([]access.Seen, error) {
	s, err := d.Sheet(name)
	if err != nil {
		return nil, err
	}
	list := s.Look()
	set := func(state access.State, text string, fields ...string) {
		for i, x := range list {
			if slices.Contains(fields, x.Field) && x.State != access.Empty {
				list[i].State, list[i].Text = state, text
			}
		}
	}
	if !access.Ready(list) {
		return list, nil
	}
	if s.Way == access.Site {
		set(access.Given, "it is tried when the sheet is used: a plugin of one file is put there, and taken off again",
			"user", "password")
		return list, nil
	}
	h := hostOf(name, s)
	m := d.machine(h)
	defer m.Close()
	tree, err := begin(ctx, m)
	if d.known(&h, err) {
		m.Close()
		m = d.machine(h)
		tree, err = begin(ctx, m)
	}
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.Is(err, host.ErrAuth):
		set(access.Right, "", "way", "host", "port")
		set(access.Wrong, err.Error(), "user", "password", "key")
	case errors.Is(err, host.ErrHostKey):
		set(access.Right, "", "way", "host", "port")
		set(access.Wrong, err.Error(), "fingerprint")
		if s.Fingerprint == "" {
			set(access.Wrong, err.Error(), "host")
		}
	case err != nil:
		set(access.Wrong, err.Error(), "host", "port")
	default:
		tree.Close()
		set(access.Right, "", "way", "host", "port", "user", "password", "key", "fingerprint")
		d.tryRest(ctx, m, s, set)
	}
	return list, nil
}

// tryRest tries what is on the host.
func (d *Fleet) tryRest(ctx context.Context, m host.Host, s access.Sheet, set func(access.State, string, ...string)) {
	if s.Root != "" {
		root, err := m.Open(ctx, s.Root)
		var in []fs.FileInfo
		if err == nil {
			in, err = root.ReadDir(".")
			root.Close()
		}
		if err != nil {
			set(access.Wrong, "it can't be read: "+err.Error(), "root")
		} else {
			set(access.Right, site.Plural(int64(len(in)), "entry", "entries")+" are there", "root")
		}
	}
	if s.DatabaseServer == "" {
		return
	}
	names := []string{"database_server", "database_user", "database_password"}
	word, err := d.safe().Read(s.DatabasePassword)
	if err != nil {
		set(access.Wrong, err.Error(), "database_password")
		return
	}
	may, err := engines.Server(ctx, m, s.DatabaseServer, s.DatabaseUser, word).MayMake(ctx)
	switch {
	case err != nil:
		set(access.Wrong, err.Error(), names...)
	case !may:
		set(access.Right, "", names...)
		set(access.Wrong, "it may not make databases and accounts", "database_user")
	default:
		set(access.Right, "", names...)
	}
}

// Used is what a sheet brought into the record.
type Used struct {
	Host inventory.Host `json:"host"`
	Site *site.Site     `json:"site,omitempty"` // nil: the sheet tells of none
}

// UseSheet brings what a sheet tells into the record: the host, the server for databases there, the site. What is there
// already stays. plainly says that a way is right which encrypts nothing.
func (d *Fleet) UseSheet(ctx context.Context, name string, plainly bool) (u Used, err error) {
	s, err := d.Sheet(name)
	if err != nil {
		return u, err
	}
	for _, x := range s.Look() {
		if x.State == access.Missing || x.State == access.Wrong {
			return u, fmt.Errorf("%s is %s: %s", x.Field, x.State, x.Text)
		}
	}
	h := hostOf(name, s)
	if way, plain := inventory.PlainWay(h.Addr); (plain || h.Plain()) && !plainly {
		return u, fmt.Errorf("by %s nothing is encrypted: everybody on the way can read the password, and what is brought; "+
			"if there is no other way, say --plain", site.Either(plain, way, h.Way))
	}
	if u.Host, err = d.record.Host(ctx, name); errors.Is(err, inventory.ErrUnknown) {
		if err = d.AddHost(ctx, h); err == nil {
			u.Host, err = d.record.Host(ctx, name)
		}
	}
	if err != nil {
		return u, err
	}
	if s.DatabaseServer != "" && u.Host.Server.Address == "" {
		to := HostSettings{Server: site.Server{Address: s.DatabaseServer, User: s.DatabaseUser,
			PasswordFile: s.DatabasePassword}}
		if u.Host, err = d.SetHost(ctx, name, to); err != nil {
			return u, err
		}
	}
	if s.Root == "" && s.Way != access.Site {
		return u, nil
	}
	n := NewSite{Host: name, Root: s.Root, Address: s.Address, Client: s.Client}
	if s.Way == access.FTPS || s.Way == access.FTP {
		n.Relay = s.Address
	}
	added, err := d.AddSite(ctx, n)
	if errors.Is(err, host.ErrNoForward) && n.Relay == "" && s.Address != "" {
		n.Relay = s.Address
		added, err = d.AddSite(ctx, n)
	}
	if err != nil {
		return u, fmt.Errorf("the host is in the record; the site: %w", err)
	}
	u.Site = &added
	return u, nil
}
