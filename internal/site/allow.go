package site

import (
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Pass lets a copy's code reach something outside.
type Pass struct {
	To    string    `json:"to"`             // HOST:PORT; *.HOST:PORT stands for all below a name
	Until time.Time `json:"until,omitzero"` // zero: for the copy's life
}

// hostName is what may stand as a host: a name, or an address; *. in front of a name.
var hostName = regexp.MustCompile(`^(\*\.)?[A-Za-z0-9_]([A-Za-z0-9_.-]*[A-Za-z0-9_])?$`)

// ErrNoTarget is given for a text that names nothing that could be reached.
var ErrNoTarget = errors.New("write HOST or HOST:PORT, such as api.example:443; *.example:443 is all below a name")

// Targets reads what a copy may reach: HOST:PORT, or HOST for the two ports of the web.
func Targets(text string) ([]string, error) {
	host, port, err := net.SplitHostPort(strings.TrimSpace(text))
	if err != nil {
		host, port = strings.Trim(strings.TrimSpace(text), "[]"), ""
	}
	host = strings.ToLower(host)
	if !hostName.MatchString(host) && net.ParseIP(host) == nil {
		return nil, fmt.Errorf("%q can't be let through: %w", text, ErrNoTarget)
	}
	if port == "" {
		return []string{net.JoinHostPort(host, "443"), net.JoinHostPort(host, "80")}, nil
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		return nil, fmt.Errorf("%q can't be let through: %s is no port; %w", text, port, ErrNoTarget)
	}
	return []string{net.JoinHostPort(host, port)}, nil
}

// Allowed is what a copy's code may reach: what was chosen when it was made, and what was let through since.
func (s Site) Allowed() []Pass {
	var out []Pass
	for _, a := range s.Allow {
		list, err := Targets(a)
		if err != nil {
			continue // one of before there were ports; nothing can be reached by it
		}
		for _, to := range list {
			out = append(out, Pass{To: to})
		}
	}
	return append(out, s.Passes...)
}

// AllowedHosts are the names among those.
func (s Site) AllowedHosts() (out []string) {
	for _, p := range s.Allowed() {
		if host, _, err := net.SplitHostPort(p.To); err == nil {
			out = append(out, strings.TrimPrefix(host, "*."))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
