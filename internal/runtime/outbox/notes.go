package outbox

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
)

// Notes writes down what a copy tried to reach, one file for each target, into the folder of what was caught.
type Notes struct {
	Dir string

	mu      sync.Mutex
	by      map[target]*note
	pending bool
	trying  int
}

type target struct {
	network, host string
	port          int
	through       bool
}

// note is what is known of one target.
type note struct {
	Network string    `json:"network"`
	Host    string    `json:"host"`
	Port    int       `json:"port,omitempty"`
	Times   int       `json:"times"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Out     int64     `json:"out,omitempty"` // bytes
	Limit   string    `json:"limit,omitempty"`
	What    string    `json:"what,omitempty"`
	In      int64     `json:"in,omitempty"`
	unsaved bool
}

// mostTargets is how many targets are told apart; what a copy calls beyond that is counted with the last.
const mostTargets = 300

// soon is how long calls are gathered before they are written down.
const soon = 100 * time.Millisecond

// Call notes a call.
func (n *Notes) Call(c wall.Call) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.trying > 0 && tried(c) {
		return
	}
	k := target{c.Network, c.Host, c.Port, c.Through}
	if n.by[k] == nil && len(n.by) >= mostTargets {
		k = target{c.Network, "further ones", 0, c.Through}
	}
	x := n.count(k, c.At)
	x.Out, x.In = x.Out+c.Out, x.In+c.In
}

// Met notes a bound that was met.
func (n *Notes) Met(m wall.Met) {
	n.mu.Lock()
	defer n.mu.Unlock()
	x := n.count(target{network: bound, host: m.Bound}, m.At)
	x.Limit, x.What = m.Limit, m.What
}

// bound is the network of a note that is of a bound.
const bound = "bound"

// count counts one time more, and has it written down soon.
func (n *Notes) count(k target, at time.Time) *note {
	if n.by == nil {
		n.by = map[target]*note{}
	}
	x := n.by[k]
	if x == nil {
		x = n.known(k, at)
		n.by[k] = x
	}
	x.Times++
	x.Last, x.unsaved = at, true
	if !n.pending {
		n.pending = true
		time.AfterFunc(soon, n.save)
	}
	return x
}

// Trying says that the copy's code tries for Alibi what it can reach, until done is called. What it tries then is not
// noted.
func (n *Notes) Trying() (done func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.trying++
	return func() {
		time.AfterFunc(soon, func() { // calls are told a moment after they were made
			n.mu.Lock()
			defer n.mu.Unlock()
			n.trying--
		})
	}
}

// tried tells whether a call may be one of Alibi's own tries: those are made at these targets and no others.
func tried(c wall.Call) bool {
	switch c.Host {
	case "192.0.2.77", "2001:db8::77", "probe.invalid":
		return true
	case "127.0.0.1":
		return slices.Contains([]int{22, 3306, 6379, 11211}, c.Port)
	}
	return c.Network == "database"
}

// file is the name of a target's file.
func (k target) file() string {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s %s %d", k.network, k.host, k.port)
	kind := "refused"
	switch {
	case k.network == bound:
		kind = bound
	case k.through:
		kind = "reached"
	}
	return kind + "-" + hex.EncodeToString(h.Sum(nil)) + ".json"
}

// known goes on with what was noted of a target before, by whoever carried then.
func (n *Notes) known(k target, at time.Time) *note {
	x := &note{Network: k.network, Host: k.host, Port: k.port, First: at}
	dir, err := os.OpenRoot(n.Dir)
	if err != nil {
		return x
	}
	defer dir.Close()
	b, err := dir.ReadFile(k.file())
	if err != nil {
		return x
	}
	var was note
	if json.Unmarshal(b, &was) != nil || was.Host != k.host || was.Network != k.network || was.Port != k.port {
		return x // the copy's code has written there
	}
	return &was
}

// save writes down what is new. The copy's code may have put anything into the folder: each file is made anew
// beside, and takes its place.
func (n *Notes) save() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.pending = false
	if err := os.Mkdir(n.Dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return // the copy is gone, or is being moved
	}
	dir, err := os.OpenRoot(n.Dir)
	if err != nil {
		return
	}
	defer dir.Close()
	for k, x := range n.by {
		if !x.unsaved {
			continue
		}
		text, err := json.Marshal(x)
		if err != nil {
			continue
		}
		fresh := "." + k.file()
		_ = dir.Remove(fresh) // left by one who died
		if dir.WriteFile(fresh, text, 0o600) == nil && dir.Rename(fresh, k.file()) == nil {
			x.unsaved = false
		}
	}
}

// askers reads who asked for what was refused: the copy's quiet rules wrote that beside.
func askers(r host.Tree, file string) list {
	_, of, _ := strings.Cut(file, "-")
	var it Item
	text, err := host.ReadFile(r, "asked-"+of, largest)
	if err != nil || readAsked(&it, text) != nil {
		return nil // PHP tells it of some calls only
	}
	return it.By
}

// readAsked reads what PHP told of a call that was refused. It is all that is known of one on another host
// where our program can't run: there nobody counts them.
func readAsked(it *Item, text []byte) error {
	var x struct {
		Host string
		Port int
		By   list
	}
	if err := json.Unmarshal(text, &x); err != nil {
		return err
	}
	it.Target = net.JoinHostPort(x.Host, strconv.Itoa(x.Port))
	it.To, it.By = "tcp "+it.Target, x.By
	return nil
}

// About is what stands beside a thing in a list: a mail's subject, how often something was tried, and who asked.
func (it Item) About() string {
	about := it.about()
	if len(it.By) == 0 {
		return about
	}
	return strings.TrimPrefix(about+", asked for by "+strings.Join(it.By, ", "), ", ")
}

func (it Item) about() string {
	times := site.Plural(max(it.Times, 1), "time", "times")
	switch it.Kind {
	case "refused":
		return strings.TrimSuffix("refused "+site.Either(it.Times > 0, times, ""), " ")
	case "reached":
		return fmt.Sprintf("%s, %s bytes out, %s in", times, site.Number(it.Out), site.Number(it.In))
	case bound:
		return times + ": " + it.Subject
	}
	return it.Subject
}

// readNote reads what was noted of a target.
func readNote(it *Item, text []byte) error {
	var x note
	if err := json.Unmarshal(text, &x); err != nil {
		return err
	}
	it.At, it.Times = x.Last, x.Times
	switch x.Network {
	case bound:
		it.To, it.Subject = x.Host+" "+x.Limit, x.What
	case "database":
		it.To = "the database as " + x.Host
	case "icmp":
		it.To = "ping " + x.Host
	default:
		it.To = x.Network + " " + net.JoinHostPort(x.Host, strconv.Itoa(x.Port))
	}
	it.Out, it.In = x.Out, x.In
	if x.Network == "tcp" {
		it.Target = net.JoinHostPort(x.Host, strconv.Itoa(x.Port))
	}
	return nil
}
