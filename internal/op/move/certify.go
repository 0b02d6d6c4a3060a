package move

import (
	"bytes"
	"context"
	"crypto"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path"
	"strings"
	"time"

	"alibi/internal/cert"
	"alibi/internal/host"
	"alibi/internal/host/trust"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// PlanCertify says what having a certificate issued for the new place will do. zone is that of the names.
func PlanCertify(in Input, c plan.Certificate, authority, zone string) plan.Plan {
	p := in.new(plan.Certify)
	p.Words = "a certificate for " + strings.Join(c.Names, ", ")
	p.Steps = []plan.Step{
		{Name: "key", Title: "make its key there"},
		{Name: "certify", Title: "show that the names are ours"},
		{Name: "load", Title: "have the web server take it"},
		{Name: "see", Title: "see it in use"},
	}
	files := path.Join(c.Dir, c.Names[0]) + ".key and .crt"
	p.Writes = []string{files + " on " + in.Place.Host}
	if c.By == (cert.Files{}).Kind() {
		p.Writes = append(p.Writes, "for a moment, a file below .well-known/acme-challenge in "+in.Site.Root+" on "+
			in.Site.Host)
	} else {
		p.Writes = append(p.Writes, "for a moment, _acme-challenge records in zone "+zone)
	}
	p.Writes = append(p.Writes, "an order at "+authority)
	if c.Reload != "" {
		p.Writes = append(p.Writes, "runs on "+in.Place.Host+": "+c.Reload)
	} else {
		p.Findings = append(p.Findings, site.Finding{Severity: site.Note, Code: "reload",
			Text: "nobody said how its web server takes it up", Remedy: "have it load " + files + " yourself, or say --reload"})
	}
	p.Confirm = consent(p, in.Site)
	p.SetDetail(Choices{Move: in.Move.Name, Certificate: &c})
	p.Estimate = plan.Estimate{Low: 2 * time.Second, High: 2 * time.Minute, Basis: "the authority looks at each name"}
	return in.finish(p)
}

// proof is how the authority is shown that the names are ours.
func (x *runner) proof(ctx context.Context) (cert.Proof, error) {
	here, _, err := x.sides(ctx)
	if err != nil {
		return nil, err
	}
	if x.c.Certificate.By == (cert.Files{}).Kind() {
		return cert.Files{Write: func(ctx context.Context) (host.Root, error) {
			return x.env.Write(ctx, x.run, here, here.Root)
		}}, nil
	}
	change, servers, err := x.provider(x.c.Certificate.Zone)
	return cert.Records{Zone: x.c.Certificate.Zone, Change: change, Servers: servers}, err
}

// certificates opens the folder at the new place in which key and certificate are.
func (x *runner) certificates(ctx context.Context) (host.Root, error) {
	_, there, err := x.sides(ctx)
	if err != nil {
		return nil, err
	}
	h, err := x.env.Host(ctx, there.Host)
	if err != nil {
		return nil, err
	}
	root, err := h.Make(ctx, x.c.Certificate.Dir)
	if err != nil {
		return nil, fmt.Errorf("making %s on %s: %w", x.c.Certificate.Dir, there.Host, err)
	}
	return root, nil
}

func (x *runner) keyFile() string   { return x.c.Certificate.Names[0] + ".key" }
func (x *runner) chainFile() string { return x.c.Certificate.Names[0] + ".crt" }

// mostPEM bounds what is read of a key or certificate.
const mostPEM = 1 << 20

// key makes the private key where it will be used; it is nowhere else. One that is there is taken.
func (x *runner) key(ctx context.Context, t *work.Task) error {
	root, err := x.certificates(ctx)
	if err != nil {
		return err
	}
	defer root.Close()
	if _, err := root.Lstat(x.keyFile()); err == nil {
		if _, err := x.readKey(root); err != nil {
			return err
		}
		t.Note("the key that is there is used")
		return nil
	}
	_, text, err := cert.NewKey()
	if err != nil {
		return err
	}
	t.Memorize(func() { x.mem.Key = true })
	if err := t.Remember(); err != nil {
		return err
	}
	if _, err := host.Put(root, x.keyFile(), 0o600, time.Time{}, bytes.NewReader(text)); err != nil {
		return fmt.Errorf("writing the key: %w", err)
	}
	return nil
}

func (x *runner) readKey(root host.Tree) (crypto.Signer, error) {
	text, err := host.ReadFile(root, x.keyFile(), mostPEM)
	if err == nil {
		var key crypto.Signer
		if key, err = cert.ReadKey(text); err == nil {
			return key, nil
		}
	}
	return nil, fmt.Errorf("the key %s: %w", path.Join(root.Path(), x.keyFile()), err)
}

// certify has the certificate issued, and puts it beside its key.
func (x *runner) certify(ctx context.Context, t *work.Task) error {
	if err := x.unshow(ctx); err != nil {
		return err
	}
	p, err := x.proof(ctx)
	if err != nil {
		return err
	}
	root, err := x.certificates(ctx)
	if err != nil {
		return err
	}
	defer root.Close()
	key, err := x.readKey(root)
	if err != nil {
		return err
	}
	chain, err := x.authority.Issue(ctx, x.c.Certificate.Names, key, told{p, t}, func(s cert.Shown) error {
		t.Memorize(func() { x.mem.Shown = append(x.mem.Shown, s) })
		t.Note("%s is shown by %s", s.Name, p.Kind())
		return t.Remember()
	})
	if err != nil {
		return err
	}
	leaf, err := cert.Leaf(chain)
	if err != nil {
		return err
	}
	if _, err := root.Lstat(x.chainFile()); err == nil {
		if err := root.Rename(x.chainFile(), x.chainFile()+".former"); err != nil {
			return fmt.Errorf("keeping the certificate that was there: %w", err)
		}
	}
	if _, err := host.Put(root, x.chainFile(), 0o644, time.Time{}, bytes.NewReader(chain)); err != nil {
		return fmt.Errorf("writing the certificate: %w", err)
	}
	t.Memorize(func() { x.mem.Shown, x.mem.Until, x.mem.Print = nil, leaf.NotAfter, trust.Fingerprint(leaf) })
	return nil
}

// told is a proof of which the run tells.
type told struct {
	cert.Proof
	t *work.Task
}

// Show shows it, and tells that.
func (p told) Show(ctx context.Context, name, token, text string) error {
	err := p.Proof.Show(ctx, name, token, text)
	if err == nil {
		p.t.Add(0, 1)
	}
	return err
}

// unshow takes away what a former try showed to the authority.
func (x *runner) unshow(ctx context.Context) error {
	if len(x.mem.Shown) == 0 {
		return nil
	}
	p, err := x.proof(ctx)
	for _, s := range x.mem.Shown {
		if err == nil {
			err = p.Away(ctx, s.Name, s.Token, s.Text)
		}
	}
	if err != nil {
		return fmt.Errorf("taking away what showed that the names are ours: %w", err)
	}
	return nil
}

// load runs the command by which the web server takes the certificate.
func (x *runner) load(ctx context.Context, t *work.Task) error {
	if x.c.Certificate.Reload == "" {
		return nil
	}
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	h, err := x.env.Host(ctx, there.Host)
	if err != nil {
		return err
	}
	out, err := h.Command(ctx, "sh", "-c", x.c.Certificate.Reload)
	if err != nil {
		return fmt.Errorf("the certificate is in %s on %s; but %q there: %w: %s", x.c.Certificate.Dir, there.Host,
			x.c.Certificate.Reload, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// see looks whether the web server there shows the certificate, and notes it with the move.
func (x *runner) see(ctx context.Context, t *work.Task) error {
	_, there, err := x.sides(ctx)
	if err != nil {
		return err
	}
	c := *x.c.Certificate
	c.At, c.Until = x.env.Now(), x.mem.Until
	for _, a := range there.Web {
		for _, name := range c.Names {
			if err := shows(ctx, a, name, x.mem.Print); err != nil {
				c.Unseen = append(c.Unseen, fmt.Sprintf("%s for %s: %v", a, name, err))
			}
		}
	}
	if _, err := x.env.Record.ChangeMove(ctx, x.c.Move, func(m *plan.Move) error {
		m.Certificate = &c
		return nil
	}); err != nil {
		return err
	}
	text := "it holds until " + c.Until.Local().Format("2 Jan 2006") + ": have the new host renew it by then"
	if len(c.Unseen) > 0 {
		text += "; not in use yet: " + c.Unseen[0]
	}
	t.Result("%s and its key are in %s on %s; %s", x.chainFile(), c.Dir, there.Host, text)
	t.Entry("a certificate for %s is in %s on %s; it holds until %s", strings.Join(c.Names, ", "), c.Dir, there.Host,
		c.Until.Local().Format("2 Jan 2006"))
	return nil
}

// shows tells why a web server does not show the certificate with a key for a name.
func shows(ctx context.Context, address, name, print string) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	c, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(address, "443"))
	if err != nil {
		return errors.New("it does not answer by https")
	}
	defer c.Close()
	is, err := trust.Shown(ctx, c, name)
	if err == nil && is != print {
		err = errors.New("it shows another certificate")
	}
	return err
}

// uncertify takes back what an order left that was not carried out.
func (x *runner) uncertify(ctx context.Context) error {
	err := x.unshow(ctx)
	if !x.mem.Key || !x.mem.Until.IsZero() {
		return err
	}
	root, rerr := x.certificates(ctx)
	if rerr != nil {
		return errors.Join(err, rerr)
	}
	defer root.Close()
	if rerr = root.Remove(x.keyFile()); errors.Is(rerr, fs.ErrNotExist) {
		rerr = nil
	}
	return errors.Join(err, rerr)
}
