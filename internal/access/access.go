// Package access has access sheets: what is known of how a host and a site on it are reached, field by field, with
// where one finds each, and what is wrong with it as far as that can be told without asking anybody.
package access

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"alibi/internal/secrets"
	"alibi/internal/site"
)

// Sheet is what is known. Passwords are none of it: in their place stands secret:NAME, or a file of this machine.
type Sheet struct {
	Way         string `toml:"way"`
	Host        string `toml:"host"`
	Port        string `toml:"port"`
	User        string `toml:"user"`
	Password    string `toml:"password"`
	Key         string `toml:"key"`
	Fingerprint string `toml:"fingerprint"`
	Address     string `toml:"address"`
	Root        string `toml:"root"`
	Client      string `toml:"client"`

	DatabaseServer   string `toml:"database_server"`
	DatabaseUser     string `toml:"database_user"`
	DatabasePassword string `toml:"database_password"`
}

// The ways in, see inventory.Ways.
const (
	SSH  = "ssh"
	FTPS = "ftps"
	FTP  = "ftp"
	Site = "site" // the site's own pages, as an administrator of it
)

// Field is one line of a sheet.
type Field struct {
	Name   string
	Title  string
	Where  string // where one finds it
	Secret bool   // a password: only where it is kept stands on the sheet
	of     func(*Sheet) *string
	needed func(Sheet) bool // nil: it is not
	form   func(string) error
}

// Fields are those of a sheet, in order.
var Fields = []Field{
	{Name: "way", Title: "way in", Where: "what the host gives: ssh (files, and often commands), ftps, ftp (nothing is " +
		"encrypted), or site (an administrator of the site and nothing else)",
		of: func(s *Sheet) *string { return &s.Way }, needed: always, form: oneWay},
	{Name: "address", Title: "address", Where: "of the site, as visitors type it",
		of: func(s *Sheet) *string { return &s.Address }, needed: func(s Sheet) bool { return s.Way == Site },
		form: func(v string) error { _, err := site.ParseAddress(v); return err }},
	{Name: "host", Title: "host", Where: "name or number of the machine for SSH or FTP: in the host's welcome mail, or " +
		"in its panel where accounts for files are made; without ftp:// or slashes",
		of: func(s *Sheet) *string { return &s.Host }, needed: func(s Sheet) bool { return s.Way != Site }, form: hostName},
	{Name: "port", Title: "port", Where: "beside the host; empty: the usual one",
		of: func(s *Sheet) *string { return &s.Port }, form: port},
	{Name: "user", Title: "account", Where: "for files: beside the host; by the site's pages: an administrator of it",
		of: func(s *Sheet) *string { return &s.User }, needed: always, form: oneWord},
	{Name: "password", Title: "password", Secret: true, Where: "as it was given, or made in the host's panel; kept as " +
		"secret:NAME, or in a file of this machine", of: func(s *Sheet) *string { return &s.Password },
		needed: func(s Sheet) bool { return s.Way != SSH }, form: kept},
	{Name: "key", Title: "private key", Where: "a file of this machine, for SSH; can be made on the spot: the host's " +
		"keeper then adds its public half", of: func(s *Sheet) *string { return &s.Key }, form: file},
	{Name: "fingerprint", Title: "host's key", Where: "SHA256:..., as the host's keeper tells it; empty: it is asked " +
		"for once", of: func(s *Sheet) *string { return &s.Fingerprint }, form: fingerprint},
	{Name: "root", Title: "document root", Where: "the folder that the web server shows, an absolute path; by the " +
		"site's pages it is found", of: func(s *Sheet) *string { return &s.Root },
		needed: func(s Sheet) bool { return s.Way != Site && s.Address != "" }, form: absolute},
	{Name: "client", Title: "client", Where: "whose it is", of: func(s *Sheet) *string { return &s.Client }},
	{Name: "database_server", Title: "database", Where: "on which databases may be made for copies and moves, as " +
		"programs on the host name it: localhost, HOST:PORT or localhost:/SOCKET; empty: none",
		of: func(s *Sheet) *string { return &s.DatabaseServer }, form: oneWord},
	{Name: "database_user", Title: "database user", Where: "one that may make databases and accounts",
		of:     func(s *Sheet) *string { return &s.DatabaseUser },
		needed: func(s Sheet) bool { return s.DatabaseServer != "" }, form: oneWord},
	{Name: "database_password", Title: "its password", Secret: true, Where: "as for the account above",
		of:     func(s *Sheet) *string { return &s.DatabasePassword },
		needed: func(s Sheet) bool { return s.DatabaseServer != "" }, form: kept},
}

func always(Sheet) bool { return true }

// Find gives a field by its name.
func Find(name string) (Field, error) {
	for _, f := range Fields {
		if f.Name == name {
			return f, nil
		}
	}
	var all []string
	for _, f := range Fields {
		all = append(all, f.Name)
	}
	return Field{}, fmt.Errorf("a sheet has no field %q: %s", name, strings.Join(all, ", "))
}

// Get gives what stands in a field.
func (f Field) Get(s Sheet) string { return *f.of(&s) }

// Set puts something into a field, without the blanks around it. A password itself is refused.
func (f Field) Set(s *Sheet, v string) error {
	v = strings.TrimSpace(v)
	if f.Name == "address" && v != "" {
		if a, err := site.ParseAddress(v); err == nil {
			v = a.String()
		}
	}
	if f.Secret && v != "" && !Names(v) {
		return fmt.Errorf("%s: the password itself does not stand on a sheet; name where it is kept: secret:NAME, or the "+
			"absolute path of a file", f.Name)
	}
	*f.of(s) = home(v)
	return nil
}

// Names tells whether a text names where a secret is kept, and is none itself.
func Names(v string) bool {
	return strings.HasPrefix(v, secrets.Prefix) || strings.HasPrefix(v, "/") || strings.HasPrefix(v, "~/")
}

// State is how it is with a field.
type State string

// The states.
const (
	Missing State = "missing"
	Wrong   State = "wrong"
	Given   State = "given" // it has the right form, and was not tried
	Right   State = "right" // it was tried
	Empty   State = "empty" // and need not be given
)

// Seen is how it is with one field.
type Seen struct {
	Field string `json:"field"`
	State State  `json:"state"`
	Text  string `json:"text,omitempty"` // what is wrong, or what was found
}

// Look sees how it is with each field, as far as that shows without asking anybody.
func (s Sheet) Look() []Seen {
	out := make([]Seen, 0, len(Fields))
	for _, f := range Fields {
		v, x := f.Get(s), Seen{Field: f.Name, State: Given}
		switch {
		case v == "" && f.needed != nil && f.needed(s):
			x.State, x.Text = Missing, f.Where
		case v == "":
			x.State = Empty
		case f.form != nil:
			if err := f.form(v); err != nil {
				x.State, x.Text = Wrong, err.Error()
			}
		}
		out = append(out, x)
	}
	return out
}

// Ready tells whether nothing is missing or wrong.
func Ready(list []Seen) bool {
	for _, x := range list {
		if x.State == Missing || x.State == Wrong {
			return false
		}
	}
	return true
}

// Like fills what is empty with what stands on another sheet.
func (s *Sheet) Like(o Sheet) (filled []string) {
	for _, f := range Fields {
		if v := f.Get(o); v != "" && f.Get(*s) == "" {
			*f.of(s) = v
			filled = append(filled, f.Name)
		}
	}
	return filled
}

// Read reads a sheet. What it holds that no sheet has is an error, with its line.
func Read(text []byte) (s Sheet, err error) {
	d := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields()
	err = d.Decode(&s)
	var strict *toml.StrictMissingError
	var at *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		line, _ := strict.Errors[0].Position()
		return s, fmt.Errorf("line %d: a sheet has no field %s", line, strings.Join(strict.Errors[0].Key(), "."))
	case errors.As(err, &at):
		line, _ := at.Position()
		return s, fmt.Errorf("line %d: %s", line, at.Error())
	}
	return s, err
}

// Write writes a sheet, with where one finds each field.
func Write(s Sheet) []byte {
	var b bytes.Buffer
	for _, f := range Fields {
		text := f.Title + ": " + f.Where
		if f.Secret {
			text += ". The password itself may stand here for once: it is put among the secrets when this is read"
		}
		fmt.Fprintf(&b, "# %s\n%s = %s\n\n", text, f.Name, quoted(f.Get(s)))
	}
	return bytes.TrimSuffix(b.Bytes(), []byte("\n"))
}

// quoted is a string of TOML.
func quoted(v string) string {
	b, err := toml.Marshal(map[string]string{"v": v})
	if err != nil {
		return strconv.Quote(v)
	}
	_, text, _ := strings.Cut(strings.TrimSpace(string(b)), "= ")
	return text
}

func oneWay(v string) error {
	switch v {
	case SSH, FTPS, FTP, Site:
		return nil
	}
	return fmt.Errorf("%q is no way in: write ssh, ftps, ftp or site", v)
}

func hostName(v string) error {
	switch {
	case strings.Contains(v, "://"):
		way, _, _ := strings.Cut(v, ":")
		return fmt.Errorf("it begins with %s://: write the name alone, and the way in its own field", way)
	case strings.ContainsAny(v, "/ \t@"):
		return errors.New("it holds a slash, a blank or an @: write the name alone, and the account in its own field")
	case strings.Count(v, ":") == 1:
		return errors.New("it holds a port: write that in its own field")
	}
	return nil
}

func port(v string) error {
	if n, err := strconv.Atoi(v); err != nil || n < 1 || n > 65535 {
		return errors.New("it is no number from 1 to 65535")
	}
	return nil
}

func oneWord(v string) error {
	if strings.ContainsAny(v, " \t") {
		return errors.New("it holds a blank")
	}
	return nil
}

func absolute(v string) error {
	if !strings.HasPrefix(v, "/") {
		return errors.New("it is no absolute path: it begins with a slash")
	}
	return nil
}

func fingerprint(v string) error {
	if !strings.HasPrefix(v, "SHA256:") || len(v) < 40 {
		return errors.New("it is no fingerprint: SHA256: and 43 characters")
	}
	return nil
}

func kept(v string) error {
	if strings.HasPrefix(v, secrets.Prefix) {
		return nil
	}
	return file(v)
}

func file(v string) error {
	fi, err := os.Stat(v)
	switch {
	case err != nil:
		return fmt.Errorf("this machine has no such file: %s", v)
	case fi.IsDir():
		return fmt.Errorf("%s is a folder", v)
	}
	return nil
}

// home is a path with the person's own folder in the place of ~.
func home(v string) string {
	if rest, is := strings.CutPrefix(v, "~/"); is {
		if dir, err := os.UserHomeDir(); err == nil {
			return dir + "/" + rest
		}
	}
	return v
}
