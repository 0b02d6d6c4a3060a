// Package ftptest starts FTP servers, for tests.
package ftptest

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/host"
	"alibi/internal/host/ftp"
)

// Server is a running one. It shows Dir as its folder At.
type Server struct {
	Target      ftp.Target
	Password    string
	Dir, At     string
	Certificate *x509.Certificate // signed by itself
}

// password is the made-up account's.
const password = "tidewater"

// ProFTPD starts a server that tells times, modes and owners (MLSD), with TLS and the same session for data; lines are
// added to its configuration. Its account is the one that the folder belongs to.
func ProFTPD(t *testing.T, dir string, lines ...string) *Server {
	t.Helper()
	if len(lines) == 0 {
		lines = []string{"TLSRequired on"}
	}
	run, s := prepare(t, dir)
	s.At = dir
	hash, err := exec.Command("openssl", "passwd", "-6", password).Output()
	require.NoError(t, err)
	fi, err := os.Stat(dir)
	require.NoError(t, err)
	whose := host.OwnerOf(fi)
	me, err := user.Current()
	require.NoError(t, err)
	group, err := user.LookupGroupId(me.Gid)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(run, "passwd"), fmt.Appendf(nil, "runa:%s:%d:%d::%s:/bin/sh\n",
		strings.TrimSpace(string(hash)), whose.User, whose.Group, dir), 0o600))
	conf := strings.NewReplacer("RUN", run, "PORT", s.Target.Port, "ME", me.Username, "MINE", group.Name).Replace(`
LoadModule mod_tls.c
ServerType standalone
Port PORT
DefaultAddress 127.0.0.1
UseIPv6 off
User ME
Group MINE
RootLogin on
RequireValidShell off
AuthOrder mod_auth_file.c
AuthUserFile RUN/passwd
PidFile RUN/pid
ScoreboardFile RUN/score
SystemLog RUN/log
DelayEngine off
WtmpLog off
UseReverseDNS off
AllowOverwrite on
Umask 022
TimesGMT on
TLSEngine on
TLSRSACertificateFile RUN/cert.pem
TLSRSACertificateKeyFile RUN/key.pem
TLSLog RUN/tls
`) + strings.Join(lines, "\n") + "\n"
	file := filepath.Join(run, "conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
	s.start(t, "/usr/sbin/proftpd", "-n", "-q", "-c", file)
	return s
}

// VSFTPD starts a server that lists as ls does, and times one by one (MDTM).
func VSFTPD(t *testing.T, dir string, lines ...string) *Server {
	t.Helper()
	cache, err := real.Cache()
	require.NoError(t, err)
	run, s := prepare(t, dir)
	s.At, s.Target.User, s.Password = dir, "anonymous", "x"
	require.NoError(t, os.Mkdir(filepath.Join(run, "empty"), 0o755))
	conf := strings.NewReplacer("RUN", run, "PORT", s.Target.Port, "TOP", filepath.Dir(dir)).Replace(`
listen=YES
listen_address=127.0.0.1
listen_port=PORT
background=NO
anonymous_enable=YES
anon_root=TOP
ftp_username=root
anon_upload_enable=YES
anon_mkdir_write_enable=YES
anon_other_write_enable=YES
anon_world_readable_only=NO
anon_umask=022
write_enable=YES
local_enable=NO
chmod_enable=YES
run_as_launching_user=YES
mdtm_write=YES
seccomp_sandbox=NO
secure_chroot_dir=RUN/empty
ssl_enable=YES
allow_anon_ssl=YES
force_anon_data_ssl=YES
force_anon_logins_ssl=YES
ssl_tlsv1=YES
require_ssl_reuse=YES
rsa_cert_file=RUN/cert.pem
rsa_private_key_file=RUN/key.pem
`) + strings.Join(lines, "\n") + "\n"
	file := filepath.Join(run, "conf")
	require.NoError(t, os.WriteFile(file, []byte(strings.TrimPrefix(conf, "\n")), 0o600))
	s.start(t, filepath.Join(cache, "vsftpd", "usr/sbin/vsftpd"), file)
	return s
}

// prepare makes what each server needs: a folder for its own files, a certificate, a port.
func prepare(t *testing.T, dir string) (run string, s *Server) {
	t.Helper()
	run = t.TempDir()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(ln.Addr().String())
	require.NoError(t, err)
	require.NoError(t, ln.Close())
	s = &Server{Target: ftp.Target{Host: "127.0.0.1", Port: port, User: "runa"}, Password: password, Dir: dir}
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	about := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "moor.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.ParseIP("127.0.0.1")}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, about, about, key.Public(), key)
	require.NoError(t, err)
	s.Certificate, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for name, b := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: der},
		"key.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		require.NoError(t, os.WriteFile(filepath.Join(run, name), pem.EncodeToMemory(b), 0o600))
	}
	return run, s
}

func (s *Server) start(t *testing.T, program string, args ...string) {
	t.Helper()
	c := exec.Command(program, args...)
	out := &strings.Builder{}
	c.Stdout, c.Stderr = out, out
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // each connection has a process of its own
	c.WaitDelay = time.Second
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
		if t.Failed() {
			t.Log(out.String())
		}
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", net.JoinHostPort(s.Target.Host, s.Target.Port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, out.String())
}

// Options trust the server's certificate and know its password.
func (s *Server) Options() ftp.Options {
	roots := x509.NewCertPool()
	roots.AddCert(s.Certificate)
	return ftp.Options{Roots: roots, Password: func() (string, error) { return s.Password, nil }}
}
