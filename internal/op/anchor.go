package op

import (
	"context"
	"net"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/inventory"
)

// naming is how long a resolver has to say where a host is.
const naming = 3 * time.Second

// Anchor notes at which machine hosts are that are reached by a name which is about to lead elsewhere: by one of names,
// or by any that leads to one of the addresses that these have now. From then on they are reached there, whatever the
// name says: else what is done at the old place would be done at the new one.
func (e *Env) Anchor(ctx context.Context, names, addresses []string) error {
	list, err := e.Record.Hosts(ctx)
	if err != nil {
		return err
	}
	for _, h := range list {
		if h.Local() || h.At != "" {
			continue
		}
		at, err := e.anchor(ctx, h, names, addresses)
		if err != nil {
			return err
		}
		if at == "" {
			continue
		}
		h.At = at
		if err := e.Record.PutHost(ctx, h); err != nil {
			return err
		}
		if err := e.Record.Log(ctx, inventory.Event{At: e.Now(), Kind: "host",
			Text: "host " + h.Name + " is reached at " + at + " from now on: its name is to lead elsewhere"}); err != nil {
			return err
		}
	}
	return nil
}

// anchor is the address at which a host is held; "" where its name stays as it is.
func (e *Env) anchor(ctx context.Context, h inventory.Host, names, addresses []string) (string, error) {
	is, err := e.Host(ctx, h.Name)
	if err != nil {
		return "", err
	}
	a, can := is.(host.Addressed)
	if !can || net.ParseIP(a.Address()) != nil {
		return "", nil
	}
	name := strings.ToLower(strings.TrimSuffix(a.Address(), "."))
	one := slices.Contains(names, name)
	if one && len(addresses) > 0 {
		return addresses[0], nil
	}
	ctx, cancel := context.WithTimeout(ctx, naming)
	defer cancel()
	now, err := net.DefaultResolver.LookupHost(ctx, name)
	if err != nil {
		return "", nil //nolint:nilerr // a name that leads nowhere is no way to a host that is lost by it
	}
	i := slices.IndexFunc(now, func(a string) bool { return slices.Contains(addresses, a) })
	if i < 0 && one { // on this machine the name may lead to a copy
		i = slices.IndexFunc(now, func(a string) bool { return !net.ParseIP(a).IsLoopback() })
	}
	if i < 0 {
		return "", nil
	}
	return now[i], nil
}
