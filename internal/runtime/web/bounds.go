package web

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"golang.org/x/sys/unix"

	"alibi/internal/host/local"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
)

// ErrFull is given for a copy whose folders hold more than they may.
var ErrFull = errors.New("its folders hold more than they may")

// looks is how often a running copy is looked at.
const looks = 500 * time.Millisecond

// guard keeps a copy's programs together to the bounds that the system keeps for each of them alone or not at all,
// and tells which of all its bounds are met.
type guard struct {
	w       *Web
	b       site.Bounds
	crowded bool
	logs    []*tail
	size    int64 // of its folders when they were last measured
	written int64 // by its programs until then
}

// keep looks at the copy until stop is closed.
func (g *guard) keep(stop <-chan struct{}) {
	g.size = g.w.Spec.size()
	for {
		if g.full() {
			return
		}
		select {
		case <-stop:
			return
		case <-g.w.gone:
			return
		case <-time.After(looks):
		}
		g.look()
	}
}

func (g *guard) met(bound, limit, format string, a ...any) {
	if tell := g.w.Spec.Sealed.Met; tell != nil {
		tell(wall.Met{At: time.Now(), Bound: bound, Limit: limit, What: fmt.Sprintf(format, a...)})
	}
}

// look takes one look at the copy's programs.
func (g *guard) look() {
	var all []process.Member
	for _, p := range g.w.procs {
		all = append(all, p.Family()...)
	}
	var memory, shared, written int64
	largest := process.Member{}
	for _, m := range all {
		memory, shared, written = memory+m.Own, max(shared, m.Shared), written+m.Written
		if m.Own > largest.Own {
			largest = m
		}
	}
	if memory += shared; g.b.Memory > 0 && memory > g.b.Memory && largest.End() == nil {
		g.met("memory", site.Size(g.b.Memory), "its largest program, %s with %s, was ended", largest.Name,
			site.Size(largest.Own))
	}
	crowded := g.b.Processes > 0 && len(all) >= g.b.Processes
	if crowded && !g.crowded {
		g.met("processes", site.Number(g.b.Processes), "no further one is started")
	}
	g.crowded = crowded
	for _, l := range g.logs {
		l.read(g)
	}
	if g.b.Disk > 0 && g.size+written-g.written > g.b.Disk { // it may hold too much: it is measured
		g.size, g.written = g.w.Spec.size(), written
	}
}

// full stops a copy whose folders hold more than they may.
func (g *guard) full() bool {
	if g.b.Disk == 0 || g.size <= g.b.Disk {
		return false
	}
	g.met("disk", site.Size(g.b.Disk), "its folders hold %s; its programs were stopped", site.Size(g.size))
	g.w.tooLarge.Store(true)
	for _, p := range g.w.procs {
		_ = p.Stop(0) // it ends with the first
	}
	return true
}

// Full tells whether the site was stopped because its folders hold more than they may.
func (w *Web) Full() bool { return w.tooLarge.Load() }

// size is how much the copy's folders hold, in bytes.
func (s Spec) size() (n int64) {
	for _, dir := range s.writes() {
		n += local.Size(dir)
	}
	return n
}

// fits says whether the copy's folders hold no more than they may.
func (s Spec) fits() error {
	if is, may := s.size(), s.Sealed.Bounds.Disk; may > 0 && is > may {
		return fmt.Errorf("%w: %s, and %s are its bound; remove some, or choose another with alibi runtime COPY "+
			"--bounds disk=SIZE", ErrFull, site.Size(is), site.Size(may))
	}
	return nil
}

// tail reads what comes into a log.
type tail struct {
	name string
	at   int64
	says []saying
}

// saying is how a log tells that a bound was met.
type saying struct {
	text  *regexp.Regexp
	bound string
	limit func(site.Bounds) string
	what  string
}

// What PHP says of a page that got no memory, what php-fpm says of its programs (signal(7)), and what PHP says of
// others that it starts.
var (
	refused = saying{regexp.MustCompile(`(?m)^Out of memory$|Out of memory \(allocated `), "program",
		func(b site.Bounds) string { return site.Size(b.Program) }, "a page wanted more, and failed"}
	unopened = saying{regexp.MustCompile(`: Too many open files`), "files",
		func(b site.Bounds) string { return site.Number(b.Files) }, "a page wanted to open a further one, and could not"}
	ended = []saying{refused, unopened, // which could not open PHP's own log either
		{regexp.MustCompile(`child \d+ exited on signal 24 `), "cpu",
			func(b site.Bounds) string { return b.CPU.String() }, "a program had used that much, and was ended"},
		{regexp.MustCompile(`child \d+ exited on signal 25 `), "file",
			func(b site.Bounds) string { return site.Size(b.File) }, "a program wrote more into one, and was ended"},
	}
	failed = []saying{refused, unopened,
		{regexp.MustCompile(`Unable to fork `), "processes",
			func(b site.Bounds) string { return site.Number(b.Processes) }, "a page wanted a further one, and got none"},
		{regexp.MustCompile(`: No space left on device|possibly out of free disk space`), "temp",
			func(b site.Bounds) string { return site.Size(b.Temp) }, "a page found no room to write, there or on the disk"},
	}
)

// keepBounds begins to keep a copy's bounds.
func (w *Web) keepBounds() {
	if w.Spec.Sealed == nil {
		return
	}
	g := &guard{w: w, b: w.Spec.Sealed.Bounds, logs: []*tail{
		{name: filepath.Join(w.Spec.Run, "php-fpm-errors.log"), says: ended}, {name: w.Spec.errors(), says: failed}}}
	for _, l := range g.logs {
		if fi, err := os.Stat(l.name); err == nil {
			l.at = fi.Size()
		}
	}
	stop, over := make(chan struct{}), make(chan struct{})
	w.closers = append(w.closers, closer(func() {
		close(stop)
		<-over
	}))
	go func() {
		defer close(over)
		g.keep(stop)
	}()
}

// closer is something to do when a site is stopped.
type closer func()

func (c closer) Close() error {
	c()
	return nil
}

// read tells which bounds were met by what came into the log, of which no more than a little is read at once.
func (l *tail) read(g *guard) {
	// The copy's code may have put something else there, such as a link or a pipe.
	f, err := os.OpenFile(l.name, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil || !fi.Mode().IsRegular() || fi.Size() == l.at {
		return
	}
	if fi.Size() < l.at {
		l.at = 0 // it was begun anew
	}
	text := make([]byte, 64<<10)
	n, err := f.ReadAt(text, l.at)
	if err != nil && !errors.Is(err, io.EOF) {
		return
	}
	l.at = fi.Size()
	for _, s := range l.says {
		for range s.text.FindAllIndex(text[:n], -1) {
			g.met(s.bound, s.limit(g.b), "%s", s.what)
		}
	}
}
