package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"

	"alibi/internal/cert"
	"alibi/internal/op/move"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// means are what a move reaches beside hosts.
func (d *core) means() move.Means {
	return move.Means{Names: d.provider, Authority: d.authority(), Panel: d.panel}
}

// authority is who issues certificates; it has no directory where nobody is named.
func (d *core) authority() cert.Authority {
	a := d.config.Authority
	return cert.Authority{Directory: a.Directory, Mail: a.Mail,
		KeyFile: cmp.Or(a.KeyFile, filepath.Join(d.env.Home, "authority.key"))}
}

// ErrNoAuthority is given where nobody is named who issues certificates.
var ErrNoAuthority = errors.New("nobody is named who issues certificates: write the address of a directory (ACME) " +
	"into config.toml, under [authority]")

// PlanCertificate says what having a certificate issued for the new place will do. Of c the folder is told; what else
// is not told is found. Names come to it too.
func (d *Moves) PlanCertificate(ctx context.Context, m plan.Move, c plan.Certificate) (plan.Plan, error) {
	in := move.Input{Move: m, Now: d.now(), By: d.who}
	var err error
	if in.Site, err = d.fresh(ctx, m.Site); err != nil {
		return plan.Plan{}, err
	}
	if in.Place, err = d.record.Site(ctx, m.Place); err != nil {
		return plan.Plan{}, err
	}
	if was := m.Certificate; was != nil {
		c.Dir, c.Reload, c.By = cmp.Or(c.Dir, was.Dir), cmp.Or(c.Reload, was.Reload), cmp.Or(c.By, was.By)
	}
	switch {
	case d.config.Authority.Directory == "":
		return plan.Plan{}, ErrNoAuthority
	case !strings.HasPrefix(c.Dir, "/"):
		return plan.Plan{}, fmt.Errorf("where on %s does its web server look for certificates? Name a folder by its "+
			"absolute path: --into /etc/ssl/sites", in.Place.Host)
	case strings.HasPrefix(c.Dir+"/", in.Place.Root+"/"):
		return plan.Plan{}, fmt.Errorf("%s is a part of the site, which visitors may read: name another folder", c.Dir)
	}
	if c.Names = certifiable(m, in.Place); len(c.Names) == 0 {
		return plan.Plan{}, fmt.Errorf("%s has no name for which a certificate could be issued", in.Site.Name)
	}
	z, _ := d.zone(c.Names[0])
	c.Zone = cmp.Or(strings.TrimSuffix(z.Zone, "."), c.Names[0])
	switch c.By {
	case "":
		c.By = site.Either(z.Key != "", "dns-01", "http-01")
	case "dns", "http":
		c.By += "-01"
	case "dns-01", "http-01":
	default:
		return plan.Plan{}, fmt.Errorf("names are shown to be ours by dns or by http, not by %q", c.By)
	}
	if c.By == "dns-01" && z.Key == "" {
		return plan.Plan{}, fmt.Errorf("nobody told how zone %s is changed (config.toml, [[names]]): show it by a file of "+
			"the site, --by http", c.Zone)
	}
	directory, _, _ := strings.Cut(d.config.Authority.Directory, "#")
	return move.PlanCertify(in, c, directory, c.Zone), nil
}

// uncertified says which names had no certificate at the new place when that was looked at last.
func uncertified(m plan.Move) (out []site.Finding) {
	if m.Survey == nil || m.Certificate != nil && len(m.Certificate.Unseen) == 0 {
		return nil
	}
	for _, f := range m.Survey.Findings {
		if f.Code == certificate {
			f.Text = "when it was looked at last, " + f.Text
			f.Remedy = "look again: alibi move " + m.Name + " survey"
			out = append(out, f)
		}
	}
	return out
}

// certificate is what findings about one are called.
const certificate = "certificate"

// certifiable are the names by which visitors come to the new place, the site's own first.
func certifiable(m plan.Move, place site.Site) (out []string) {
	add := func(name string) {
		if net.ParseIP(name) == nil && strings.Contains(name, ".") && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	add(place.Address().Host)
	if m.Names != nil {
		for _, r := range slices.Concat(m.Names.Old, m.Names.Follow) {
			add(r.Name)
		}
	}
	return out
}
