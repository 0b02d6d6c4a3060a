// Package wall gives the programs that run a copy's code a world of their own, which the operating system
// keeps: they see their own folders and what they run on and nothing else of the machine, have a network in
// which there is nobody, no rights, and bounds. What leads out of it is carried by us, and told.
//
// The world is made by bubblewrap (https://github.com/containers/bubblewrap) from namespaces(7); a program of
// ours is started in it first, opens the ways out, gives up every right, and becomes the program that was wanted.
package wall

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/site"
)

// World is what a program sees and may use.
type World struct {
	Run    string            // folder of what we put into the world; its path is short
	Read   []string          // files and folders that it sees and can't change
	Write  []string          // folders that it may change
	As     map[string]string // files of ours by the path at which the program sees them
	Owner  *host.Owner       // who it is where we are root; nil elsewhere: who we are
	Bounds site.Bounds       // each of its programs is kept to them here; all together by who runs the world
	// Terminal says that the program has a terminal that is nobody else's; others are cut off from the one at which
	// they were started.
	Terminal bool
}

// Missing says why there can be no wall on this machine; "" if there can. It is tried once.
var Missing = sync.OnceValue(func() string {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if _, err := exec.LookPath(bubblewrap); err != nil {
		return "bubblewrap is not installed"
	}
	args := append(namespaces(), system()...)
	out, err := exec.CommandContext(ctx, bubblewrap, append(args, "--", "/usr/bin/true")...).CombinedOutput()
	if err != nil {
		return "this machine gives no namespaces: " + strings.TrimSpace(string(out)+" "+err.Error())
	}
	return ""
})

const bubblewrap = "bwrap"

// Account is the account of a copy's programs where we are root: one that nobody else has, above those that
// systems and containers give out (https://systemd.io/UIDS-GIDS/), by what the copy is known by.
func Account(id string) *host.Owner {
	if os.Geteuid() != 0 {
		return nil
	}
	to := AccountOf(id)
	return &to
}

// AccountOf is the account of a copy's programs on a machine where those who start them are root.
func AccountOf(id string) host.Owner {
	n := uint32(2166136261) // FNV-1a
	for _, c := range []byte(id) {
		n = (n ^ uint32(c)) * 16777619
	}
	u := 1_900_000_000 + int(n%100_000_000)
	return host.Owner{User: u, Group: u}
}

// namespaces are the arguments for a world with nobody else in it.
func namespaces() []string {
	args := []string{"--unshare-ipc", "--unshare-pid", "--unshare-net", "--unshare-uts", "--unshare-cgroup-try",
		"--die-with-parent", "--hostname", "copy", "--cap-drop", "ALL"}
	if os.Geteuid() != 0 {
		me := strconv.Itoa(os.Getuid())
		args = append(args, "--unshare-user", "--uid", me, "--gid", strconv.Itoa(os.Getgid()))
	}
	return args
}

// system are the arguments for what every program needs of the system, read-only.
func system() []string {
	var args []string
	for _, d := range []string{"/etc", "/etc/ssl", "/dev", "/run", "/var"} {
		args = append(args, folder(d)...)
	}
	args = append(args, "--ro-bind", "/usr", "/usr")
	for _, d := range []string{"/bin", "/sbin", "/lib", "/lib32", "/lib64"} {
		args = append(args, "--ro-bind-try", d, d)
	}
	for _, f := range []string{"/etc/alternatives", "/etc/php", "/etc/ssl/certs", "/etc/ssl/openssl.cnf",
		"/etc/ld.so.cache",
		"/etc/ca-certificates", "/etc/pki", "/etc/localtime", "/etc/timezone", "/etc/mime.types", "/etc/fonts",
		"/etc/services", "/etc/protocols", "/etc/ImageMagick-6"} {
		args = append(args, "--ro-bind-try", f, f)
	}
	args = append(args, "--proc", "/proc", "--symlink", "../tmp", "/var/tmp")
	// Not --dev: it costs the world the namespace in which its network can be set up.
	for _, device := range []string{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom"} {
		args = append(args, "--dev-bind", device, device)
	}
	for i, n := range []string{"stdin", "stdout", "stderr"} {
		args = append(args, "--symlink", "/proc/self/fd/"+strconv.Itoa(i), "/dev/"+n)
	}
	return append(args, "--symlink", "/proc/self/fd", "/dev/fd", "--perms", "1777", "--tmpfs", "/dev/shm")
}

// folder are the arguments for a folder that everybody in the world can look into.
func folder(name string) []string { return []string{"--perms", "0755", "--dir", name} }

// above are the arguments for the folders in which something of ours is to be seen. They are empty otherwise, and not
// to be written into: one that lies in /tmp would seem to be the machine's own.
func above(list []string) (out []string) {
	var dirs []string
	for _, name := range list {
		for d := filepath.Dir(name); d != "/" && d != "/usr" && d != "/tmp" && d != "/proc"; d = filepath.Dir(d) {
			dirs = append(dirs, d)
		}
	}
	slices.Sort(dirs)
	for _, d := range slices.Compact(dirs) {
		out = append(out, "--perms", "0555", "--dir", d)
	}
	return out
}

// etc are the files that tell programs who and where they are.
func (w World) etc() map[string]string {
	user, group := os.Getuid(), os.Getgid()
	if w.Owner != nil {
		user, group = w.Owner.User, w.Owner.Group
	}
	return Etc(user, group)
}

// Etc are the files below /etc of a world, for an account; names are further ones of the world itself.
func Etc(user, group int, names ...string) map[string]string {
	here := strings.Join(append([]string{"localhost", "copy"}, names...), " ")
	return map[string]string{
		"passwd":        fmt.Sprintf("copy:x:%d:%d:a copy:/tmp:/bin/sh\n", user, group),
		"group":         fmt.Sprintf("copy:x:%d:\n", group),
		"hosts":         "127.0.0.1 " + here + "\n::1 localhost\n",
		"resolv.conf":   "nameserver 127.0.0.1\noptions timeout:2 attempts:1\n",
		"nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\nservices: files\nprotocols: files\n",
	}
}

// command gives how a program is started in the world; ports are those of TCP on which something is listened for in
// it.
func (w World) command(ports []int, program string, args ...string) (string, []string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", nil, fmt.Errorf("building the copy's wall: %w", err)
	}
	etc := filepath.Join(w.Run, "etc")
	if err := os.MkdirAll(etc, 0o755); err != nil {
		return "", nil, fmt.Errorf("building the copy's wall: %w", err)
	}
	out := append(namespaces(), system()...)
	if !w.Terminal {
		out = append(out, "--new-session")
	}
	out = append(out, "--size", strconv.FormatInt(max(w.Bounds.Temp, 64<<20), 10), "--perms", "1777", "--tmpfs", "/tmp")
	for name, text := range w.etc() {
		file := filepath.Join(etc, name)
		if err := write(file, text); err != nil {
			return "", nil, err
		}
		out = append(out, "--ro-bind", file, "/etc/"+name)
	}
	out = append(out, "--ro-bind", self, inside)
	read := slices.DeleteFunc(outer(w.Read), func(d string) bool { return below(d, "/usr") })
	out = append(out, above(slices.Concat(read, w.Write, slices.Collect(maps.Keys(w.As))))...)
	for _, d := range read {
		out = append(out, "--ro-bind", d, d)
	}
	for _, d := range outer(w.Write) {
		out = append(out, "--bind", d, d)
	}
	for at, from := range w.As {
		out = append(out, "--bind", from, at)
	}
	for _, right := range []string{"NET_ADMIN", "NET_RAW", "NET_BIND_SERVICE", "SETUID", "SETGID", "SETPCAP"} {
		if os.Geteuid() == 0 || strings.HasPrefix(right, "NET_") && len(ports) > 0 {
			out = append(out, "--cap-add", "CAP_"+right)
		}
	}
	order, err := json.Marshal(order{Ports: ports, Owner: w.Owner, Bounds: w.Bounds})
	if err != nil {
		return "", nil, err
	}
	out = append(out, "--remount-ro", "/", "--chdir", "/tmp", "--", inside, string(order), program)
	return bubblewrap, append(out, args...), nil
}

// write writes a file that the world's programs read, unless it is there as it is to be.
func write(file, text string) error {
	if is, err := os.ReadFile(file); err == nil && bytes.Equal(is, []byte(text)) {
		return nil
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return fmt.Errorf("building the copy's wall: %w", err)
	}
	return nil
}

// outer leaves those folders away that lie in others of the list, and names each once.
func outer(list []string) (out []string) {
	list = slices.Clone(list)
	slices.Sort(list)
	for _, d := range slices.Compact(list) {
		if !slices.ContainsFunc(out, func(o string) bool { return below(d, o) }) {
			out = append(out, d)
		}
	}
	return out
}

func below(name, dir string) bool { return name == dir || strings.HasPrefix(name, dir+"/") }

// Prefix gives the folder that a program which lies outside of the system's own folders needs, with its
// libraries and settings: the one in which it lies, or the one above if that is a bin or sbin.
func Prefix(program string) string {
	dir := filepath.Dir(program)
	if b := filepath.Base(dir); b == "bin" || b == "sbin" {
		dir = filepath.Dir(dir)
	}
	if home, err := os.UserHomeDir(); err == nil && below(home, dir) {
		return program // a home is not for the world to see
	}
	return dir
}
