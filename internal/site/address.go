package site

import (
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	"golang.org/x/net/idna"
)

// Address is where a site answers: a scheme, a host name, a port if it is not
// the scheme's own, and a sub-folder without a slash at its end. The zero
// value is no address.
type Address struct {
	Scheme string // "http" or "https"
	Host   string // lower case, without port; IDN names in their ASCII form
	Port   string // "" for the scheme's default
	Path   string // "" or "/folder/sub"
}

// AddressError says what is wrong with a typed address and what to type instead.
type AddressError struct{ Input, Problem, Instead string }

func (e *AddressError) Error() string {
	s := fmt.Sprintf("%q is no site address: %s", e.Input, e.Problem)
	if e.Instead != "" {
		s += "; try " + e.Instead
	}
	return s
}

// ParseAddress reads an address in any form in which people type one: with or
// without scheme, port, sub-folder or slash at the end. https is assumed. The
// error is an *AddressError.
func ParseAddress(in string) (Address, error) {
	fail := func(problem, instead string) (Address, error) {
		return Address{}, &AddressError{in, problem, instead}
	}
	s := strings.TrimSpace(in)
	if s == "" {
		return fail("it is empty", "https://www.example.org")
	}
	if strings.ContainsAny(s, " \t\n") {
		return fail("it has a blank in it", strings.Join(strings.Fields(s), ""))
	}
	if !strings.Contains(s, "://") {
		s = "https://" + strings.TrimPrefix(s, "//")
	}
	u, err := url.Parse(s)
	if err != nil {
		return fail("it can't be read", "https://www.example.org")
	}
	a := Address{Scheme: strings.ToLower(u.Scheme), Port: u.Port()}
	switch {
	case a.Scheme != "http" && a.Scheme != "https":
		return fail("a site is reached by http or https, not "+a.Scheme, "https://"+u.Host)
	case u.User != nil:
		return fail("it holds a user name", a.Scheme+"://"+u.Host)
	case u.RawQuery != "" || u.Fragment != "":
		return fail("it goes on after the path", a.Scheme+"://"+u.Host+u.Path)
	}
	if a.Host, err = canonicalHost(u.Hostname()); err != nil {
		return fail(err.Error(), "")
	}
	if a.Port != "" {
		if n, err := strconv.Atoi(a.Port); err != nil || n < 1 || n > 65535 {
			return fail("the port must be a number from 1 to 65535", a.Scheme+"://"+a.Host)
		}
	}
	if a.Port == a.defaultPort() {
		a.Port = ""
	}
	a.Path = strings.TrimRight(u.EscapedPath(), "/")
	if strings.Contains(a.Path, "//") || strings.Contains(a.Path+"/", "/../") {
		return fail("the folder has an empty or .. part", "")
	}
	return a, nil
}

func canonicalHost(h string) (string, error) {
	h = strings.ToLower(strings.TrimSuffix(h, "."))
	if h == "" {
		return "", fmt.Errorf("the host name is missing")
	}
	if net.ParseIP(h) != nil {
		return h, nil
	}
	ascii, err := idna.Lookup.ToASCII(h)
	if err != nil {
		return "", fmt.Errorf("%q can't be a host name", h)
	}
	for _, label := range strings.Split(ascii, ".") {
		if label == "" || len(label) > 63 {
			return "", fmt.Errorf("%q has an empty or too long part between its dots", h)
		}
	}
	return ascii, nil
}

func (a Address) defaultPort() string {
	if a.Scheme == "http" {
		return "80"
	}
	return "443"
}

// IsZero tells whether there is no address.
func (a Address) IsZero() bool { return a.Host == "" }

// HostPort is the host with its port where that is not the default: what a
// Host header holds.
func (a Address) HostPort() string {
	h := a.Host
	if strings.Contains(h, ":") {
		h = "[" + h + "]"
	}
	if a.Port != "" {
		h += ":" + a.Port
	}
	return h
}

// String is the address as a URL without a slash at the end.
func (a Address) String() string {
	if a.IsZero() {
		return ""
	}
	return a.Scheme + "://" + a.HostPort() + a.Path
}

// Origin is the address as a URL without its path.
func (a Address) Origin() string { return a.Scheme + "://" + a.HostPort() }

// Short is the address without its scheme, as lists show it.
func (a Address) Short() string { return a.HostPort() + a.Path }

// Sibling is the same address with its leading www added or taken away.
func (a Address) Sibling() Address {
	if rest, ok := strings.CutPrefix(a.Host, "www."); ok {
		a.Host = rest
	} else {
		a.Host = "www." + a.Host
	}
	return a
}

// MarshalText writes the address as a URL.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (a *Address) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*a = Address{}
		return nil
	}
	var err error
	*a, err = ParseAddress(string(b))
	return err
}
