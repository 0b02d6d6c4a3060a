package wall

import (
	"alibi/internal/site"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// Ways are what leads out of a world, and who carries it. All else is refused at once by the world's own
// network, and told.
type Ways struct {
	// Own are the names under which the copy is known, and Pages the ports at which it is: calls there are handed
	// to Serve.
	Own   []string
	Pages []int
	Serve func(c net.Conn)
	// Mail takes what is said at the ports of mail.
	Mail func(c net.Conn)
	// Others are servers that can be reached by name or address and port, such as the copy's database.
	Others map[string]func(c net.Conn)
	// Allowed is what may be reached outside.
	Allowed []site.Pass
	// Tell hears of every call, once it is over; nil: nobody does.
	Tell func(Call)
	// Dial reaches the outside; nil: from this machine.
	Dial func(ctx context.Context, network, addr string) (net.Conn, error)
}

// Call is what a world's program tried to reach.
type Call struct {
	At      time.Time
	Network string // "tcp", "udp", "icmp", "database", "mail"
	Host    string // the name that was asked for, or an address; of a database: the account
	Port    int
	Through bool  // it was let through
	Out, In int64 // bytes, of one that was let through
}

// Met is a bound that the programs of a world came up against.
type Met struct {
	At    time.Time
	Bound string // as site.Bounds.With names it
	Limit string // how much that is
	What  string // what came of it
}

// MailPorts are those at which mail is handed in (RFC 5321, RFC 6409; 2525 is what providers offer beside).
var MailPorts = []int{25, 587, 2525}

// Ports are those on which something is listened for in the world, at least one.
func (w *Ways) Ports() []int {
	var out []int
	if w.Serve != nil {
		out = append(out, w.Pages...)
	}
	if w.Mail != nil {
		out = append(out, MailPorts...)
	}
	for to := range w.Others {
		out = append(out, portOf(to))
	}
	for _, p := range w.Allowed {
		out = append(out, portOf(p.To))
	}
	slices.Sort(out)
	out = slices.DeleteFunc(slices.Compact(out), func(p int) bool { return p <= 0 })
	if len(out) == 0 {
		out = []int{9} // discard (RFC 863): nobody takes what comes there
	}
	return out
}

func portOf(to string) int {
	_, p, err := net.SplitHostPort(to)
	if err != nil {
		return 0
	}
	n, err := strconv.Atoi(p)
	if err != nil {
		return 0
	}
	return n
}

// carrier carries what leads out of one world.
type carrier struct {
	ways  *Ways
	ports []int
	names names
	own   []net.Listener
	close func()
	wg    sync.WaitGroup
	begun atomic.Int64 // connections being carried
}

// pair gives a socket for a new world, as its third file, and ours.
func pair() (theirs, ours *os.File, err error) {
	p, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("building the copy's wall: %w", err)
	}
	return os.NewFile(uintptr(p[0]), "theirs"), os.NewFile(uintptr(p[1]), "ours"), nil
}

// receive takes the sockets that a world opened, and begins to carry.
func receive(ours *os.File, w *Ways, ports []int) (*carrier, error) {
	conn, err := net.FileConn(ours)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		return nil, err
	}
	b, oob := make([]byte, 1), make([]byte, unix.CmsgSpace(4*(len(ports)+2)))
	_, n, _, _, err := conn.(*net.UnixConn).ReadMsgUnix(b, oob)
	if err != nil {
		return nil, fmt.Errorf("the copy's world did not open its ways out: %w", err)
	}
	list, err := unix.ParseSocketControlMessage(oob[:n])
	if err != nil || len(list) != 1 {
		return nil, errors.New("the copy's world handed over no sockets")
	}
	fds, err := unix.ParseUnixRights(&list[0])
	if err != nil || len(fds) != len(ports)+2 {
		return nil, errors.New("the copy's world handed over other sockets than it was to")
	}
	files := make([]*os.File, len(fds))
	for i, fd := range fds {
		unix.CloseOnExec(fd)
		files[i] = os.NewFile(uintptr(fd), "of a world")
	}
	c := &carrier{ways: w, ports: ports}
	c.names.w = w
	return c, c.begin(files)
}

// begin carries on the sockets: what is called, names, and the listeners.
func (c *carrier) begin(files []*os.File) error {
	watch := files[0]
	if err := unix.SetNonblock(int(watch.Fd()), true); err != nil {
		return err
	}
	// A file that was handed to the runtime before it was made so is not polled.
	fd, err := unix.Dup(int(watch.Fd()))
	if err != nil {
		return err
	}
	watch.Close()
	watch = os.NewFile(uintptr(fd), "calls of a world")
	asked, err := net.FilePacketConn(files[1])
	files[1].Close()
	if err != nil {
		return err
	}
	c.close = func() {
		watch.Close()
		asked.Close()
	}
	c.wg.Go(func() { c.watch(watch) })
	c.wg.Go(func() { c.names.serve(asked) })
	for _, f := range files[2:] {
		l, err := net.FileListener(f)
		f.Close()
		if err != nil {
			return err
		}
		c.own = append(c.own, l)
		c.wg.Go(func() { c.accept(l) })
	}
	return nil
}

// Close ends all that is carried.
func (c *carrier) Close() error {
	c.close()
	for _, l := range c.own {
		l.Close()
	}
	c.wg.Wait()
	return nil
}

// most is how many connections of a world are carried at once.
const most = 512

func (c *carrier) accept(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		if c.begun.Add(1) > most {
			c.begun.Add(-1)
			conn.Close()
			continue
		}
		go func() {
			defer c.begun.Add(-1)
			defer conn.Close()
			c.carry(conn)
		}()
	}
}

// carry hands a connection to whom it is meant for. One that is meant for nobody ends here: the call was
// told when it began.
func (c *carrier) carry(conn net.Conn) {
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return
	}
	if take := c.ways.taker(c.names.of(at.Addr().Unmap()), int(at.Port()), at.Addr().IsLoopback()); take != nil {
		take(conn)
		return
	}
	if t, ok := conn.(*net.TCPConn); ok {
		_ = t.SetLinger(0) // it is refused, rather than heard out
	}
}

// taker gives who takes a connection to a host by its name, or by its address if it was called by that; nil:
// nobody does.
func (w *Ways) taker(host string, port int, here bool) func(net.Conn) {
	switch to := net.JoinHostPort(host, strconv.Itoa(port)); {
	case w.Others[to] != nil:
		return w.Others[to]
	case w.allows(host, port):
		return func(c net.Conn) { w.through(c, host, port) }
	case mails(port) && w.Mail != nil:
		return func(c net.Conn) {
			w.tell(Call{At: time.Now(), Network: "mail", Host: host, Port: port})
			w.Mail(c)
		}
	case w.Serve != nil && (here || w.IsOwn(host)) && slices.Contains(w.Pages, port):
		return w.Serve
	}
	return nil
}

func mails(port int) bool { return slices.Contains(MailPorts, port) }

// through carries a connection to the outside, as it is: what is encrypted stays so.
func (w *Ways) through(conn net.Conn, host string, port int) {
	call := Call{At: time.Now(), Network: "tcp", Host: host, Port: port, Through: true}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	dial := w.Dial
	if dial == nil {
		dial = new(net.Dialer).DialContext
	}
	out, err := dial(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err == nil {
		call.Out, call.In = Join(conn, out)
	}
	w.tell(call)
}

// Join carries bytes both ways until both sides have said all, and tells how many went out and came in.
func Join(a, b net.Conn) (out, in int64) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		out, _ = io.Copy(b, a) // one side that breaks off ends the other
		closeWrite(b)
	}()
	in, _ = io.Copy(a, b)
	closeWrite(a)
	b.Close()
	a.Close()
	<-done
	return out, in
}

func closeWrite(c net.Conn) {
	if w, ok := c.(interface{ CloseWrite() error }); ok {
		_ = w.CloseWrite() // it may be closed
	}
}

func (w *Ways) tell(c Call) {
	if w.Tell != nil {
		w.Tell(c)
	}
}

// allows tells whether something outside may be reached.
func (w *Ways) allows(host string, port int) bool {
	for _, a := range w.Allowed {
		h, p, err := net.SplitHostPort(a.To)
		if err != nil || p != strconv.Itoa(port) || !a.Until.IsZero() && time.Now().After(a.Until) {
			continue
		}
		if strings.EqualFold(h, host) {
			return true
		}
		if rest, ok := strings.CutPrefix(h, "*"); ok &&
			strings.HasSuffix(strings.ToLower(host), strings.ToLower(rest)) {
			return true
		}
	}
	return false
}

// IsOwn tells whether a name is the copy's, or lies below one.
func (w *Ways) IsOwn(host string) bool {
	for _, o := range w.Own {
		if strings.EqualFold(host, o) || strings.HasSuffix(strings.ToLower(host), "."+strings.ToLower(o)) {
			return true
		}
	}
	return false
}
