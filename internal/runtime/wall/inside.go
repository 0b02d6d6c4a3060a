package wall

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"alibi/internal/host"
	"alibi/internal/site"
)

// inside is the path at which a world sees our own program, and by which that knows that it is in one.
const inside = "/run/alibi-wall"

// order is what our program is to do in a new world before it becomes another one.
type order struct {
	Ports  []int       `json:"ports,omitempty"`
	Owner  *host.Owner `json:"owner,omitempty"`
	Bounds site.Bounds `json:"bounds"`
}

// control is the file by which the sockets of the ways out are handed to who carries them.
const control = 3

// Our program is started in a new world as `/run/alibi-wall ORDER PROGRAM ARGUMENTS`.
func init() {
	if len(os.Args) < 3 || os.Args[0] != inside {
		return
	}
	runtime.GOMAXPROCS(1)  // no other thread of ours does anything while this one takes the bounds; see become
	debug.SetGCPercent(-1) // nothing is collected either
	runtime.LockOSThread() // rights belong to a thread
	err := enter(os.Args[1], os.Args[2:])
	fmt.Fprintln(os.Stderr, "the copy's wall:", err)
	os.Exit(126)
}

// enter opens the ways out, gives up all rights, takes the bounds and becomes the program.
func enter(text string, command []string) error {
	var o order
	if err := json.Unmarshal([]byte(text), &o); err != nil {
		return err
	}
	if len(o.Ports) > 0 {
		if err := open(o.Ports); err != nil {
			return fmt.Errorf("opening the ways out: %w", err)
		}
	}
	if err := giveUp(o.Owner); err != nil {
		return fmt.Errorf("giving up rights: %w", err)
	}
	unix.CloseOnExec(control)
	return become(command, o.Bounds)
}

// open has every address lead to this world itself, listens on the ports, and hands the sockets on.
func open(ports []int) error {
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		if err := routeAll(family); err != nil && family == unix.AF_INET {
			return fmt.Errorf("the route of the world's network: %w", err)
		}
	}
	var files []int
	watch, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_NONBLOCK, int(htons(unix.ETH_P_ALL)))
	if err != nil {
		return fmt.Errorf("watching calls: %w", err)
	}
	files = append(files, watch)
	names, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 53})
	if err != nil {
		return err
	}
	nf, err := names.File()
	if err != nil {
		return err
	}
	files = append(files, int(nf.Fd()))
	for _, p := range ports {
		l, err := net.Listen("tcp", ":"+strconv.Itoa(p))
		if err != nil {
			return err
		}
		lf, err := l.(*net.TCPListener).File()
		if err != nil {
			return err
		}
		files = append(files, int(lf.Fd()))
	}
	if err := unix.Sendmsg(control, []byte{1}, unix.UnixRights(files...), nil, 0); err != nil {
		return fmt.Errorf("handing them on: %w", err)
	}
	for _, f := range files {
		unix.CloseOnExec(f)
	}
	return nil
}

func htons(n uint16) uint16 { return n<<8 | n>>8 }

// routeAll has every address of a family lead to the world's own loopback (rtnetlink(7)): what no way
// is open for is refused at once.
func routeAll(family uint8) error {
	s, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_ROUTE)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	type message struct {
		Head  unix.NlMsghdr
		Route unix.RtMsg
		Attr  unix.RtAttr
		Index uint32
	}
	m := message{
		Head: unix.NlMsghdr{
			Type:  unix.RTM_NEWROUTE,
			Flags: unix.NLM_F_REQUEST | unix.NLM_F_CREATE | unix.NLM_F_ACK,
		},
		Route: unix.RtMsg{
			Family:   family,
			Table:    unix.RT_TABLE_LOCAL,
			Protocol: unix.RTPROT_BOOT,
			Scope:    unix.RT_SCOPE_HOST,
			Type:     unix.RTN_LOCAL,
		},
		Attr:  unix.RtAttr{Len: 8, Type: unix.RTA_OIF},
		Index: 1, // the loopback is the first in every new network
	}
	m.Head.Len = uint32(unsafe.Sizeof(m))
	b := unsafe.Slice((*byte)(unsafe.Pointer(&m)), unsafe.Sizeof(m))
	if err := unix.Sendto(s, b, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return err
	}
	answer := make([]byte, 4096)
	n, _, err := unix.Recvfrom(s, answer, 0)
	if err != nil {
		return err
	}
	if n < unix.SizeofNlMsghdr+4 {
		return unix.EBADMSG
	}
	if code := *(*int32)(unsafe.Pointer(&answer[unix.SizeofNlMsghdr])); code != 0 {
		return unix.Errno(-code)
	}
	return nil
}

// bound is one of setrlimit(2).
type bound struct {
	what int
	at   unix.Rlimit
}

// usualFiles is how many files a program may have open where nothing else is asked for: our own runtime takes more.
const usualFiles = 1024

// boundsOf are those of a process and of all that it starts, last those by which our own runtime may die: it has more
// memory than a program needs, and asks for threads.
func boundsOf(b site.Bounds) (out []bound, err error) {
	for _, x := range []struct {
		what int
		n    int64
	}{
		{unix.RLIMIT_CPU, int64(b.CPU.Seconds())}, {unix.RLIMIT_FSIZE, b.File}, {unix.RLIMIT_CORE, -1},
		{unix.RLIMIT_NOFILE, int64(cmp.Or(b.Files, usualFiles))}, {unix.RLIMIT_NPROC, int64(b.Processes)},
		{unix.RLIMIT_AS, b.Program},
	} {
		if x.n == 0 {
			continue
		}
		var is unix.Rlimit
		if err := unix.Getrlimit(x.what, &is); err != nil {
			return nil, fmt.Errorf("bounding the copy: %w", err)
		}
		most := min(uint64(max(x.n, 0)), is.Max)
		end := most
		if x.what == unix.RLIMIT_CPU {
			end = min(most+5, is.Max) // who is told by a signal can be told from who is killed
		}
		out = append(out, bound{x.what, unix.Rlimit{Cur: most, Max: end}})
	}
	return out, nil
}

// become takes the bounds and becomes a program. Between the two there are but system calls, which keep the one
// processor that our runtime has: nothing asks for memory or a thread that the bounds would not give.
func become(command []string, b site.Bounds) error {
	program, err := unix.BytePtrFromString(command[0])
	if err != nil {
		return err
	}
	args, err := syscall.SlicePtrFromStrings(command)
	if err != nil {
		return err
	}
	env, err := syscall.SlicePtrFromStrings(os.Environ())
	if err != nil {
		return err
	}
	list, err := boundsOf(b)
	if err != nil {
		return err
	}
	for i := range list {
		if _, _, e := unix.RawSyscall6(unix.SYS_PRLIMIT64, 0, uintptr(list[i].what),
			uintptr(unsafe.Pointer(&list[i].at)), 0, 0, 0); e != 0 {
			return fmt.Errorf("bounding the copy: %w", e)
		}
	}
	_, _, e := unix.RawSyscall(unix.SYS_EXECVE, uintptr(unsafe.Pointer(program)), uintptr(unsafe.Pointer(&args[0])),
		uintptr(unsafe.Pointer(&env[0])))
	return fmt.Errorf("starting %s: %w", command[0], e)
}

// giveUp leaves this thread without any right, and without a way to one (capabilities(7)).
func giveUp(to *host.Owner) error {
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return err
	}
	if to != nil {
		for right := uintptr(0); right <= unix.CAP_LAST_CAP; right++ {
			if err := unix.Prctl(unix.PR_CAPBSET_DROP, right, 0, 0, 0); err != nil && err != unix.EINVAL {
				return err
			}
		}
		if err := rawIDs(*to); err != nil {
			return err
		}
	}
	none := [2]unix.CapUserData{}
	if err := unix.Capset(&unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}, &none[0]); err != nil {
		return err
	}
	return unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
}

// rawIDs makes this thread another account's; it becomes the whole process when it becomes another program.
func rawIDs(to host.Owner) error {
	if _, _, e := unix.RawSyscall(unix.SYS_SETGROUPS, 0, 0, 0); e != 0 {
		return e
	}
	g, u := uintptr(to.Group), uintptr(to.User)
	if _, _, e := unix.RawSyscall(unix.SYS_SETRESGID, g, g, g); e != 0 {
		return e
	}
	if _, _, e := unix.RawSyscall(unix.SYS_SETRESUID, u, u, u); e != 0 {
		return e
	}
	return nil
}
