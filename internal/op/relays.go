package op

import (
	"context"
	"errors"
	"fmt"
	"path"
	"sync"
	"time"

	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/relay"
	"alibi/internal/stack"
)

// Relays are those that this process put beside sites whose databases it can't reach.
type Relays struct {
	mu   sync.Mutex
	open map[string]*placed // by host and folder, and whether it writes
}

// placed is a relay in its place, and what removes it.
type placed struct {
	*relay.Relay
	server relay.Server
	made   inventory.Made
	ends   *time.Timer
}

// where names the relay of a folder that writes, or only reads.
func where(hostName, root string, writes bool) string {
	return fmt.Sprint(hostName, ":", root, " ", writes)
}

// RelayIdle is for how long a relay that nobody asks stays. Tests have less.
var RelayIdle = 2 * time.Minute

// relayRest is how much of a relay's life has to be left for something new to begin with it.
const relayRest = relay.Life / 2

// relayFor gives what opens a relay to the database of the site in a folder.
func (e *Env) relayFor(hostName, root string) func(context.Context, stack.Place) stack.Relay {
	return func(ctx context.Context, p stack.Place) stack.Relay {
		address := p.About(ctx).Relay
		if address == "" {
			return nil
		}
		return func(ctx context.Context, s relay.Server) (*relay.Relay, error) {
			return e.relay(ctx, hostName, root, address, s)
		}
	}
}

// relay gives the relay of a folder; where there is none it is noted in the record and put in place.
func (e *Env) relay(ctx context.Context, hostName, root, address string, s relay.Server) (*relay.Relay, error) {
	r := e.Relays
	r.mu.Lock()
	defer r.mu.Unlock()
	at := where(hostName, root, s.Writes)
	if p := r.open[at]; p != nil {
		if p.server == s && p.Left() > relayRest && p.Answers(ctx) == nil { // else somebody may have removed it
			return p.Relay, nil
		}
		if err := e.takeOff(ctx, p); err != nil {
			return nil, err
		}
		delete(r.open, at)
	}
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return nil, err
	}
	dir, err := h.Write(ctx, root)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	p := &placed{server: s, made: inventory.Made{Kind: ReadingRelay, Host: hostName, At: e.Now()}}
	if s.Writes {
		p.made.Kind = WritingRelay
		if err := e.noOtherWriter(ctx, hostName, root); err != nil {
			return nil, err
		}
	}
	also, err := e.machines(ctx, h, root)
	if err != nil {
		return nil, err
	}
	name := relay.Name()
	p.made.Path = path.Join(root, name)
	if err := e.Record.AddMade(ctx, p.made); err != nil {
		return nil, err
	}
	if p.Relay, err = relay.Put(ctx, dir, address, name, s, also...); err != nil {
		return nil, errors.Join(err, e.Unmake(context.WithoutCancel(ctx), p.made))
	}
	if r.open == nil {
		r.open = map[string]*placed{}
	}
	r.open[at] = p
	p.ends = time.AfterFunc(RelayIdle, func() { e.idle(at, p) })
	return p.Relay, nil
}

// machines are where a folder may answer while its name leads elsewhere: where visitors reach it before a move or after
// it, and the machine by which its files are reached.
func (e *Env) machines(ctx context.Context, h host.Host, root string) (out []string, err error) {
	moves, err := e.Record.Moves(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range moves {
		out = append(out, m.Web(h.Name(), root)...)
	}
	if a, can := h.(host.Addressed); can {
		out = append(out, a.Address())
	}
	return out, nil
}

// The kinds of relays in the list of what was made.
const (
	ReadingRelay = "relay"
	WritingRelay = "writing relay"
	// BroughtRelay is one by which a host is reached of which only a site is known; its name is in the place of a path.
	BroughtRelay = "brought relay"
)

// noOtherWriter removes relays that write for a run which has the site no more: what its process was killed in the
// midst of writes nothing any more.
func (e *Env) noOtherWriter(ctx context.Context, hostName, root string) error {
	made, err := e.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range made {
		if m.Kind == WritingRelay && m.Host == hostName && path.Dir(m.Path) == root {
			if err := e.Unmake(ctx, m); err != nil {
				return fmt.Errorf("removing a relay that was left: %w", err)
			}
		}
	}
	return nil
}

// idle removes a relay that was not asked for a while.
func (e *Env) idle(at string, p *placed) {
	r := e.Relays
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open[at] != p {
		return
	}
	if since := p.Idle(); since < RelayIdle && p.Left() > 0 {
		p.ends.Reset(RelayIdle - since)
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	if e.takeOff(ctx, p) == nil { // else it is among the leftovers
		delete(r.open, at)
	}
}

// takeOff removes a relay.
func (e *Env) takeOff(ctx context.Context, p *placed) error {
	p.ends.Stop()
	if err := p.End(ctx); err != nil && ctx.Err() != nil { // else it is gone, or removed all the same
		return err
	}
	return e.Unmake(ctx, p.made)
}

// EndRelays removes the relays of a folder: all in it will go.
func (e *Env) EndRelays(ctx context.Context, hostName, root string) error {
	return e.closeRelays(ctx, func(at string) bool {
		return at == where(hostName, root, false) || at == where(hostName, root, true)
	})
}

// CloseRelays removes the relays of this process. What can't be removed is among the leftovers, and ends by itself.
func (e *Env) CloseRelays(ctx context.Context) error {
	return e.closeRelays(ctx, func(string) bool { return true })
}

func (e *Env) closeRelays(ctx context.Context, those func(at string) bool) (all error) {
	r := e.Relays
	r.mu.Lock()
	defer r.mu.Unlock()
	for at, p := range r.open {
		if !those(at) {
			continue
		}
		all = errors.Join(all, e.takeOff(ctx, p))
		delete(r.open, at)
	}
	return all
}

// withdraw removes a relay that was brought into a site, and left there.
func (e *Env) withdraw(ctx context.Context, m inventory.Made) error {
	h, err := e.Host(ctx, m.Host)
	if err != nil {
		return err
	}
	b, can := h.(interface {
		Remove(ctx context.Context, name string) error
	})
	if !can {
		return fmt.Errorf("%s is not reached by its site any more: delete %s there by hand", m.Host, m.Path)
	}
	err = b.Remove(ctx, m.Path)
	if err != nil && e.Now().Sub(m.At) > relay.Life { // it answers nobody any more, if it is there at all
		return nil
	}
	return err
}

// unrelay removes the files of a relay.
func (e *Env) unrelay(ctx context.Context, m inventory.Made) error {
	h, err := e.Host(ctx, m.Host)
	if err != nil {
		return err
	}
	dir, err := h.Write(ctx, path.Dir(m.Path))
	if _, bySite := h.(host.Showing); err != nil && bySite && e.Now().Sub(m.At) > relay.Life {
		return nil // as in withdraw
	}
	if err != nil {
		return err
	}
	defer dir.Close()
	return relay.Remove(dir, path.Base(m.Path))
}

// ShowsOnly tells whether a host is known only by the site in a folder.
func (e *Env) ShowsOnly(ctx context.Context, hostName, root string) (bool, error) {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return false, err
	}
	s, can := h.(host.Showing)
	if !can {
		return false, nil
	}
	dir, err := s.Shown(ctx)
	return path.Clean(dir) == path.Clean(root), err
}

// Emptied notes that a folder has nothing in it any more: no relay that was put there, nor, where the host is known
// only by the site that was there, what was brought into that.
func (e *Env) Emptied(ctx context.Context, hostName, root string, only bool) error {
	if only {
		h, err := e.Host(ctx, hostName)
		if err == nil {
			err = h.Close() // with the file by which it was emptied
		}
		if err != nil {
			return err
		}
	}
	made, err := e.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range made {
		relay := (m.Kind == ReadingRelay || m.Kind == WritingRelay) && path.Dir(m.Path) == path.Clean(root)
		if m.Host != hostName || !relay && (m.Kind != BroughtRelay || !only) {
			continue
		}
		if err := e.Record.Unmade(ctx, m.Host, m.Path); err != nil {
			return err
		}
	}
	return nil
}
