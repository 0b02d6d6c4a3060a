// Package cert has certificates issued for the names of a site by an authority that speaks ACME (RFC 8555), which is
// shown that the names are ours by records (dns-01) or by files of the site (http-01).
package cert

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/acme"

	"alibi/internal/host/trust"
)

// Authority issues certificates.
type Authority struct {
	Directory string // the address of its directory; behind # the key of its own certificate, where nobody signed that
	Mail      string // where it tells of what ends soon
	KeyFile   string // of our account with it; it is made if it is not there
}

// ErrNotOurs is given where the authority does not see that a name is ours.
var ErrNotOurs = errors.New("the authority does not see that the name is ours")

// Proof shows that a name is ours.
type Proof interface {
	// Kind is what it is called there: "dns-01" or "http-01".
	Kind() string
	// Show shows it: text is the record's or the file's, and token the name of the file.
	Show(ctx context.Context, name, token, text string) error
	// Away takes away what was shown of a name; nothing where nothing is there.
	Away(ctx context.Context, name, token, text string) error
}

// NewKey draws a key, and gives it as PKCS #8 in PEM too.
func NewKey() (crypto.Signer, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), err
}

// ReadKey reads a key as NewKey writes it, or as others do.
func ReadKey(text []byte) (crypto.Signer, error) {
	b, _ := pem.Decode(text)
	if b == nil {
		return nil, errors.New("it holds no key in PEM")
	}
	for _, parse := range []func([]byte) (any, error){x509.ParsePKCS8PrivateKey,
		func(d []byte) (any, error) { return x509.ParseECPrivateKey(d) },
		func(d []byte) (any, error) { return x509.ParsePKCS1PrivateKey(d) }} {
		if key, err := parse(b.Bytes); err == nil {
			if s, is := key.(crypto.Signer); is {
				return s, nil
			}
		}
	}
	return nil, errors.New("it holds no private key that could be read")
}

// account is our key with the authority.
func (a Authority) account() (crypto.Signer, error) {
	text, err := os.ReadFile(a.KeyFile)
	if err == nil {
		key, err := ReadKey(text)
		if err != nil {
			return nil, fmt.Errorf("the key of our account, %s: %w", a.KeyFile, err)
		}
		return key, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("the key of our account: %w", err)
	}
	key, text, err := NewKey()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(a.KeyFile), 0o700); err != nil {
		return nil, fmt.Errorf("keeping the key of our account: %w", err)
	}
	f, err := os.OpenFile(a.KeyFile, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) { // another process was first
		return a.account()
	}
	if err != nil {
		return nil, fmt.Errorf("keeping the key of our account: %w", err)
	}
	_, err = f.Write(text)
	return key, errors.Join(err, f.Close())
}

// client speaks with the authority as our account, which is made if it does not know it.
func (a Authority) client(ctx context.Context) (*acme.Client, error) {
	at, err := url.Parse(a.Directory)
	if err != nil || at.Scheme != "https" || at.Host == "" {
		return nil, fmt.Errorf("%q is no address of an authority: https://HOST/PATH", a.Directory)
	}
	pin := at.Fragment
	at.Fragment = ""
	key, err := a.account()
	if err != nil {
		return nil, err
	}
	c := &acme.Client{Key: key, DirectoryURL: at.String(), HTTPClient: trust.Client(at, "", pin), UserAgent: "alibi"}
	account := &acme.Account{}
	if a.Mail != "" {
		account.Contact = []string{"mailto:" + a.Mail}
	}
	if _, err := c.Register(ctx, account, acme.AcceptTOS); err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, fmt.Errorf("our account with %s: %w", at.Host, plainly(err))
	}
	return c, nil
}

// Issue has a certificate issued for names, and gives it with those between it and the authority's own, in PEM. What is
// shown meanwhile is taken away, whatever comes. note is told what is shown before it is, so that it can be taken away
// after a kill.
func (a Authority) Issue(ctx context.Context, names []string, key crypto.Signer, p Proof,
	note func(Shown) error) ([]byte, error) {
	c, err := a.client(ctx)
	if err != nil {
		return nil, err
	}
	order, err := c.AuthorizeOrder(ctx, acme.DomainIDs(names...))
	if err != nil {
		return nil, fmt.Errorf("ordering a certificate for %s: %w", strings.Join(names, ", "), plainly(err))
	}
	for _, at := range order.AuthzURLs {
		if err := authorize(ctx, c, at, p, note); err != nil {
			return nil, err
		}
	}
	at := order.URI
	if order, err = c.WaitOrder(ctx, at); err != nil {
		return nil, fmt.Errorf("waiting for the authority: %w", plainly(err))
	}
	csr, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
		Subject: pkix.Name{CommonName: names[0]}, DNSNames: names}, key)
	if err != nil {
		return nil, err
	}
	chain, err := fetch(ctx, c, at, order.FinalizeURL, csr)
	if err != nil {
		return nil, fmt.Errorf("fetching the certificate: %w", plainly(err))
	}
	var out bytes.Buffer
	for _, der := range chain {
		if err := pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: der}); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// fetch has the order at an address carried out. Where its answer does not say where the order is, or does not come, it
// is asked for by that.
func fetch(ctx context.Context, c *acme.Client, at, finalize string, csr []byte) ([][]byte, error) {
	chain, _, err := c.CreateOrderCert(ctx, finalize, csr, true)
	if err == nil {
		return chain, nil
	}
	order, werr := c.WaitOrder(ctx, at)
	if werr != nil || order.CertURL == "" {
		return nil, err
	}
	return c.FetchCert(ctx, order.CertURL, true)
}

// Shown is what shows that a name is ours.
type Shown struct {
	Name  string `json:"name"`
	Token string `json:"token"`
	Text  string `json:"text"`
}

// authorize shows that one name is ours.
func authorize(ctx context.Context, c *acme.Client, at string, p Proof, note func(Shown) error) error {
	z, err := c.GetAuthorization(ctx, at)
	if err != nil {
		return fmt.Errorf("asking the authority: %w", plainly(err))
	}
	if z.Status == acme.StatusValid {
		return nil
	}
	name := z.Identifier.Value
	var challenge *acme.Challenge
	for _, one := range z.Challenges {
		if one.Type == p.Kind() {
			challenge = one
		}
	}
	if challenge == nil {
		return fmt.Errorf("the authority does not let %s be shown by %s", name, p.Kind())
	}
	text, err := c.HTTP01ChallengeResponse(challenge.Token)
	if p.Kind() == "dns-01" {
		text, err = c.DNS01ChallengeRecord(challenge.Token)
	}
	if err != nil {
		return err
	}
	if err := note(Shown{name, challenge.Token, text}); err != nil {
		return err
	}
	err = p.Show(ctx, name, challenge.Token, text)
	if err == nil {
		if _, err = c.Accept(ctx, challenge); err == nil {
			wait, cancel := context.WithTimeout(ctx, patience)
			_, err = c.WaitAuthorization(wait, z.URI)
			cancel()
		}
	}
	away := p.Away(context.WithoutCancel(ctx), name, challenge.Token, text)
	var refused *acme.AuthorizationError
	if errors.As(err, &refused) {
		err = fmt.Errorf("%s: %w: %s", name, ErrNotOurs, reasons(refused))
	} else if err != nil {
		err = fmt.Errorf("showing that %s is ours: %w", name, plainly(err))
	}
	if away != nil {
		away = fmt.Errorf("taking away what showed that %s is ours: %w", name, away)
	}
	return errors.Join(err, away)
}

// patience is how long the authority may take to look at what is shown.
const patience = 3 * time.Minute

// reasons are what the authority says of a name.
func reasons(e *acme.AuthorizationError) string {
	var out []string
	for _, err := range e.Errors {
		out = append(out, plainly(err).Error())
	}
	return strings.Join(out, "; ")
}

// plainly gives what the authority says, without the rest of its answer.
func plainly(err error) error {
	var said *acme.Error
	if errors.As(err, &said) && said.Detail != "" {
		return errors.New("the authority says: " + said.Detail)
	}
	return err
}

// Leaf reads the first certificate of a chain.
func Leaf(chain []byte) (*x509.Certificate, error) {
	b, _ := pem.Decode(chain)
	if b == nil {
		return nil, errors.New("there is no certificate in PEM")
	}
	return x509.ParseCertificate(b.Bytes)
}
