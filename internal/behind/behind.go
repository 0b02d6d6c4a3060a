// Package behind has files follow a copy that answers already. Who asks for one that is still to come waits for it
// while it is brought before the others.
package behind

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/site"
)

// ErrNotHere is given for a file that is still to come and could not be brought at once.
var ErrNotHere = errors.New("it is still to come")

// Patience is how long somebody who asks for a file waits for it.
const Patience = 25 * time.Second

// atOnce is how many files that were asked for are brought at the same time.
const atOnce = 4

// Desk is where files are asked for. The zero value is ready.
type Desk struct {
	mu      sync.Mutex
	lines   map[site.ID]*Line
	changed chan struct{}             // closed when a line was opened or closed
	ended   map[site.ID]chan struct{} // closed when nothing is to come to a copy any more
}

// Line is the files that are still to come to one copy.
type Line struct {
	desk  *Desk
	id    site.ID
	bring func(ctx context.Context, name string) error
	ctx   context.Context
	stop  context.CancelFunc
	slots chan struct{}
	work  sync.WaitGroup

	mu    sync.Mutex
	files map[string]*file
	dirs  map[string][]string // names of files that were to come, by folder
}

type file struct {
	asked bool
	tried chan struct{} // closed when bringing it at once has ended; nil: nobody asked
	err   error
}

// Open says which files are to come to a copy. Those that somebody asks for are brought by bring, which gives an error
// where it can't, and is called for several files at once.
func (d *Desk) Open(ctx context.Context, id site.ID, names []string,
	bring func(ctx context.Context, name string) error) *Line {
	l := &Line{desk: d, id: id, bring: bring, slots: make(chan struct{}, atOnce),
		files: make(map[string]*file, len(names)), dirs: map[string][]string{}}
	l.ctx, l.stop = context.WithCancel(ctx)
	for _, n := range names {
		l.files[n] = &file{}
		l.dirs[path.Dir(n)] = append(l.dirs[path.Dir(n)], path.Base(n))
	}
	d.put(id, l)
	return l
}

// put makes l the line of a copy; nil: it has none.
func (d *Desk) put(id site.ID, l *Line) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.lines == nil {
		d.lines = map[site.ID]*Line{}
	}
	if d.changed != nil {
		close(d.changed)
	}
	d.changed = make(chan struct{})
	if l == nil {
		delete(d.lines, id)
		return
	}
	d.lines[id] = l
	delete(d.ended, id)
}

// End says that nothing is to come to a copy any more.
func (d *Desk) End(id site.ID) {
	ended := d.Ended(id)
	d.mu.Lock()
	defer d.mu.Unlock()
	select {
	case <-ended:
	default:
		close(ended)
	}
}

// Ended is closed when nothing is to come to a copy any more.
func (d *Desk) Ended(id site.ID) chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ended == nil {
		d.ended = map[site.ID]chan struct{}{}
	}
	if d.ended[id] == nil {
		d.ended[id] = make(chan struct{})
	}
	return d.ended[id]
}

// Close ends it; what did not come is not brought any more.
func (l *Line) Close() {
	if l == nil {
		return
	}
	l.stop()
	l.work.Wait()
	l.desk.mu.Lock()
	mine := l.desk.lines[l.id] == l
	l.desk.mu.Unlock()
	if mine {
		l.desk.put(l.id, nil)
	}
}

// Came says that a file is there, or will not come.
func (l *Line) Came(name string) {
	if l == nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.files, name)
}

// Left is how many files are still to come.
func (l *Line) Left() int {
	if l == nil {
		return 0
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.files)
}

// line gives a copy's line, waiting until it has one; nil where nothing is to come any more.
func (d *Desk) line(ctx context.Context, id site.ID) (*Line, error) {
	ended := d.Ended(id)
	for {
		d.mu.Lock()
		l := d.lines[id]
		if d.changed == nil {
			d.changed = make(chan struct{})
		}
		changed := d.changed
		d.mu.Unlock()
		if l != nil {
			return l, nil
		}
		select {
		case <-changed:
		case <-ended:
			return nil, nil
		case <-ctx.Done():
			return nil, fmt.Errorf("%w: nothing is brought at present", ErrNotHere)
		}
	}
}

// Await gives nil when a file of a copy is there, or is not one that is to come. It waits while it is brought; after
// Patience it gives ErrNotHere.
func (d *Desk) Await(ctx context.Context, id site.ID, name string) error {
	wait, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	for {
		l, err := d.line(wait, id)
		if err != nil || l == nil {
			return err
		}
		if tried := l.ask(name); tried == nil {
			return nil
		} else if err, again := l.wait(wait, name, tried); !again {
			return err
		}
	}
}

// wait waits for a file that was asked for; again tells that it is to be asked for anew.
func (l *Line) wait(ctx context.Context, name string, tried <-chan struct{}) (err error, again bool) {
	select {
	case <-ctx.Done():
		return ErrNotHere, false
	case <-tried:
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.files[name]
	switch {
	case f == nil:
		return nil, false
	case l.ctx.Err() != nil: // it is taken up again by another line, or not
		return nil, true
	}
	return fmt.Errorf("%w: %w", ErrNotHere, f.err), false
}

// ask has a file brought at once, and gives what is closed when that has ended; nil for one that is not to come.
func (l *Line) ask(name string) <-chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.files[name]
	if f == nil {
		return nil
	}
	if f.asked {
		return f.tried
	}
	f.asked, f.tried = true, make(chan struct{})
	l.work.Go(func() {
		var err error
		select {
		case l.slots <- struct{}{}:
			err = l.bring(l.ctx, name)
			<-l.slots
		case <-l.ctx.Done():
			err = l.ctx.Err()
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		if f.err = err; err == nil {
			delete(l.files, name)
		}
		f.asked = false
		close(f.tried)
	})
	return f.tried
}

// Names gives the names of the files in a folder of a copy that are still to come.
func (d *Desk) Names(id site.ID, dir string) (out []string) {
	d.mu.Lock()
	l := d.lines[id]
	d.mu.Unlock()
	if l == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, n := range l.dirs[dir] {
		if l.files[path.Join(dir, n)] != nil {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// Of is a copy's part of a desk.
type Of struct {
	Desk *Desk
	ID   site.ID
}

// Await is Desk.Await for the copy.
func (o Of) Await(ctx context.Context, name string) error { return o.Desk.Await(ctx, o.ID, name) }

// Names is Desk.Names for the copy.
func (o Of) Names(dir string) []string { return o.Desk.Names(o.ID, dir) }

// Ended is Desk.Ended for the copy.
func (o Of) Ended() <-chan struct{} { return o.Desk.Ended(o.ID) }

// AwaitPage is Await for the path of an address. Copies of networks have their files below each sub-site's address too.
func (o Of) AwaitPage(ctx context.Context, address string) error {
	name := strings.TrimPrefix(path.Clean("/"+address), "/")
	if name == "" || path.Ext(name) == "" {
		return nil
	}
	if err := o.Await(ctx, name); err != nil {
		return err
	}
	_, below, ok := strings.Cut(name, "/")
	if !ok {
		return nil
	}
	return o.Await(ctx, below)
}
