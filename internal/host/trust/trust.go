// Package trust says whose certificates are taken: those that somebody signed whom this machine trusts (its own store,
// or what SSL_CERT_FILE and SSL_CERT_DIR name), and those with a key that a person accepted by its digest.
package trust

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"alibi/internal/host"
)

// Unknown is given for a certificate that nobody whom this machine trusts has signed, and whose key is not the one that
// was accepted.
type Unknown struct {
	Fingerprint string
	err         error
}

func (e *Unknown) Error() string {
	return fmt.Sprintf("its certificate, with the key %s, is not trusted here: %v", e.Fingerprint, e.err)
}

func (e *Unknown) Is(target error) bool { return target == host.ErrHostKey }

// Fingerprint is the digest of a certificate's key (SubjectPublicKeyInfo) as OpenSSH writes those of its keys.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Config is for connections to what has a name. pin is the digest of the key that is accepted whoever signed it; "":
// none. roots may sign; nil: whom this machine trusts.
func Config(name, pin string, roots *x509.CertPool) *tls.Config {
	return &tls.Config{
		ServerName:         name,
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, //nolint:gosec // VerifyConnection does it, with keys that were accepted
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return errors.New("it shows no certificate")
			}
			leaf, between := s.PeerCertificates[0], x509.NewCertPool()
			for _, c := range s.PeerCertificates[1:] {
				between.AddCert(c)
			}
			print := Fingerprint(leaf)
			if pin != "" && print == pin {
				return nil
			}
			_, err := leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: roots, Intermediates: between})
			if err == nil {
				return nil
			}
			return &Unknown{print, err}
		},
	}
}

// Client asks one machine, at an address by HTTP, and follows nothing elsewhere by itself. at is where that is; "":
// where the address's name leads. pin is as in Config.
func Client(address *url.URL, at, pin string) *http.Client {
	dial := &net.Dialer{Timeout: 10 * time.Second}
	return &http.Client{
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
				if _, port, err := net.SplitHostPort(addr); at != "" && err == nil {
					addr = net.JoinHostPort(at, port)
				}
				return dial.DialContext(ctx, network, addr)
			},
			TLSClientConfig:       Config(address.Hostname(), pin, nil),
			MaxIdleConnsPerHost:   8,
			IdleConnTimeout:       30 * time.Second,
			ResponseHeaderTimeout: time.Minute,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// Shown speaks TLS with what is at the end of a connection, under a name, and gives the digest of the key of the
// certificate that it shows, whoever signed that.
func Shown(ctx context.Context, c net.Conn, name string) (string, error) {
	conn := tls.Client(c, &tls.Config{ServerName: name, InsecureSkipVerify: true}) //nolint:gosec // nothing is said to it
	if err := conn.HandshakeContext(ctx); err != nil {
		return "", err
	}
	return Fingerprint(conn.ConnectionState().PeerCertificates[0]), nil
}
