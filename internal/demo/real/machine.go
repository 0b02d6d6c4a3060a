package real

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"alibi/internal/runtime/mariadb"
	"alibi/internal/runtime/process"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// Machine is a host of the made-up company: an OpenSSH server with a database
// server and a PHP of its own, in a folder of this machine.
type Machine struct {
	Name string
	Dir  string // its sites are below this
	Port string // of SSH
	User string
	DB   *mariadb.Server
	sshd *process.Process

	hostKey string // file
}

// Fingerprint is that of its host key, as OpenSSH writes it.
func (m *Machine) Fingerprint() (string, error) {
	b, err := os.ReadFile(m.hostKey)
	if err != nil {
		return "", err
	}
	key, err := ssh.ParsePrivateKey(b)
	if err != nil {
		return "", err
	}
	return ssh.FingerprintSHA256(key.PublicKey()), nil
}

// MachineOptions say what a machine is like.
type MachineOptions struct {
	Name      string
	Dir       string // for its sites and data
	Run       string // for sockets; its path is short
	Key       ssh.PublicKey
	PHP       string   // a folder with a php, put before the others; "": the system's
	FilesOnly bool     // SFTP and nothing else
	More      []string // lines for sshd_config
}

// NewKey draws a key and writes it to a file, for signing in.
func NewKey(file, passphrase string) (ssh.PublicKey, error) {
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, "made up")
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "made up", []byte(passphrase))
	}
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(pub)
}

// StartMachine starts the servers of a machine.
func StartMachine(o MachineOptions) (*Machine, error) {
	m := &Machine{Name: o.Name, Dir: o.Dir}
	u, err := user.Current()
	if err != nil {
		return nil, err
	}
	m.User = u.Username
	for _, d := range []string{o.Dir, o.Run} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	if m.DB, err = mariadb.Start(mariadb.Options{Data: filepath.Join(o.Dir, "mysql"), Run: o.Run,
		More: []string{"--innodb-log-file-size=64M"}}); err != nil {
		return nil, err
	}
	if err := m.startSSH(o); err != nil {
		m.Close()
		return nil, err
	}
	return m, nil
}

func (m *Machine) startSSH(o MachineOptions) error {
	sshd, err := exec.LookPath("/usr/sbin/sshd")
	if err != nil {
		return fmt.Errorf("an OpenSSH server is needed: %w", err)
	}
	hostKey := filepath.Join(o.Run, "host_key")
	m.hostKey = hostKey
	if _, err := os.Stat(hostKey); err != nil {
		if _, err := NewKey(hostKey, ""); err != nil {
			return err
		}
	}
	keys := filepath.Join(o.Run, "authorized_keys")
	if err := os.WriteFile(keys, ssh.MarshalAuthorizedKey(o.Key), 0o600); err != nil {
		return err
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	_, m.Port, _ = net.SplitHostPort(ln.Addr().String())
	ln.Close()
	path := os.Getenv("PATH") + ":/usr/sbin"
	if o.PHP != "" {
		path = o.PHP + ":" + path
	}
	lines := []string{
		"Port " + m.Port,
		"ListenAddress 127.0.0.1",
		"HostKey " + hostKey,
		"AuthorizedKeysFile " + keys,
		"PidFile none",
		"UsePAM no",
		"StrictModes no",
		"PasswordAuthentication no",
		"PermitRootLogin prohibit-password",
		"Subsystem sftp internal-sftp",
		"SetEnv PATH=" + path + " XDG_CACHE_HOME=" + filepath.Join(m.Dir, "cache"),
		"MaxStartups 50",
		"MaxSessions 50",
	}
	if o.FilesOnly {
		lines = append(lines, "ForceCommand internal-sftp", "DisableForwarding yes")
	}
	conf := filepath.Join(o.Run, "sshd_config")
	if err := os.WriteFile(conf, []byte(strings.Join(append(lines, o.More...), "\n")+"\n"), 0o600); err != nil {
		return err
	}
	if os.Getuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return err
		}
	}
	if m.sshd, err = process.Start(o.Run, "sshd", nil, sshd, "-D", "-e", "-f", conf); err != nil {
		return err
	}
	return m.sshd.Await(10*time.Second, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+m.Port)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// Admin is the administrator of the machine's database server, from here.
func (m *Machine) Admin() tables.Server {
	return engines.Local(m.DB.Socket, "root", "")
}

// Server is the machine's database server, as a site there names it.
func (m *Machine) Server() string { return "localhost:" + m.DB.Socket }

// Cut breaks all SSH connections to the machine; it takes new ones at once. It
// tells how many there were.
func (m *Machine) Cut() (int, error) { return m.signal(syscall.SIGKILL) }

// Freeze has all SSH connections to the machine, and it itself, stop without a
// word, until Thaw.
func (m *Machine) Freeze() error {
	if _, err := m.signal(syscall.SIGSTOP); err != nil {
		return err
	}
	return syscall.Kill(m.sshd.PID(), syscall.SIGSTOP)
}

// Thaw has them go on.
func (m *Machine) Thaw() error {
	if err := syscall.Kill(m.sshd.PID(), syscall.SIGCONT); err != nil {
		return err
	}
	_, err := m.signal(syscall.SIGCONT)
	return err
}

// signal sends a signal to all processes that serve SSH connections, and tells how many connections there were: an
// ordinary account's server has a second process for each.
func (m *Machine) signal(s syscall.Signal) (n int, err error) {
	all, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return 0, err
	}
	parents := map[int]int{}
	for _, file := range all {
		text, err := os.ReadFile(file)
		if err != nil {
			continue // it ended meanwhile
		}
		var state string
		var pid, parent int
		first, rest, _ := strings.Cut(string(text), " (sshd) ")
		if _, err := fmt.Sscan(rest, &state, &parent); err != nil {
			continue // another program's
		}
		if pid, err = strconv.Atoi(first); err == nil {
			parents[pid] = parent
		}
	}
	for pid, parent := range parents {
		own := parent == m.sshd.PID()
		if !own && parents[parent] != m.sshd.PID() {
			continue
		}
		if syscall.Kill(pid, s) == nil && own {
			n++
		}
	}
	return n, nil
}

// Close stops the servers.
func (m *Machine) Close() {
	if m.sshd != nil {
		_ = m.sshd.Stop(time.Second) // what does not end is killed
	}
	if m.DB != nil {
		_ = m.DB.Stop()
	}
}
