package wall

import (
	"maps"
	"slices"
	"strings"
)

// Mark is a file by which a program knows that it is in a world.
const Mark = inside

// Try is a command for sh that succeeds on a host where There can be used.
var Try = strings.Join(quoted(append(append([]string{bubblewrap, "--unshare-user", "--unshare-net", "--unshare-pid"},
	system()...), "--", "/bin/true")), " ") + " >/dev/null 2>&1"

func quoted(list []string) []string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
	}
	return out
}

// There are the arguments with which a program runs in a world on another host, where nothing of ours is: no way leads
// out of it but sockets that are bound into it, and what it calls is refused and not told. Etc are files that were put
// there, by their names in /etc; Mark among what is bound tells the program where it is.
func (w World) There(etc map[string]string, program string, args ...string) []string {
	out := append([]string{"--unshare-user", "--unshare-ipc", "--unshare-pid", "--unshare-net", "--unshare-uts",
		"--unshare-cgroup-try", "--die-with-parent", "--new-session", "--hostname", "copy", "--cap-drop", "ALL"},
		system()...)
	out = append(out, "--perms", "1777", "--tmpfs", "/tmp")
	binds := []string{"--clearenv", "--setenv", "PATH", "/usr/local/bin:/usr/bin:/bin", "--setenv", "HOME", "/tmp",
		"--setenv", "PHP_CLI_SERVER_WORKERS", "4"}
	for _, name := range slices.Sorted(maps.Keys(etc)) {
		binds = append(binds, "--ro-bind", etc[name], "/etc/"+name)
	}
	read := slices.DeleteFunc(outer(w.Read), func(d string) bool { return below(d, "/usr") })
	out = append(out, above(slices.Concat(read, w.Write, slices.Sorted(maps.Keys(w.As))))...)
	for _, d := range read {
		binds = append(binds, "--ro-bind", d, d)
	}
	for _, d := range outer(w.Write) {
		binds = append(binds, "--bind-try", d, d)
	}
	for _, at := range slices.Sorted(maps.Keys(w.As)) {
		binds = append(binds, "--bind", w.As[at], at)
	}
	out = append(out, binds...)
	return append(append(out, "--remount-ro", "/", "--chdir", "/tmp", "--", program), args...)
}
