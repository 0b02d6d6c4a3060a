// Command wall measures what the wall around a copy costs: the same real site is started and asked for pages with
// and without one, in turn, on this machine.
//
//	go run ./bench/wall [-runs 20] [-pages 200] [-many 20]
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"alibi/internal/demo/real"
	"alibi/internal/host/local"
	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

func main() {
	runs := flag.Int("runs", 20, "how often each is started")
	pages := flag.Int("pages", 200, "how many pages each is asked for")
	many := flag.Int("many", 20, "how many run at once in the end")
	flag.Parse()
	if err := measure(context.Background(), *runs, *pages, *many); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// bench is one real site, which is run in the two ways.
type bench struct {
	dir  string
	spec real.Spec
	php  php.PHP
	n    int // starts so far
}

func measure(ctx context.Context, runs, pages, many int) error {
	if why := wall.Missing(); why != "" {
		return fmt.Errorf("there is no wall on this machine: %s", why)
	}
	dir, err := os.MkdirTemp("", "alibi-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer process.Reap(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the copy's account looks for its folders in it
		return err
	}
	key, err := real.NewKey(filepath.Join(dir, "key"), "")
	if err != nil {
		return err
	}
	m, err := real.StartMachine(real.MachineOptions{Name: "pier", Dir: filepath.Join(dir, "pier"),
		Run: filepath.Join(dir, "r"), Key: key})
	if err != nil {
		return err
	}
	defer m.Close()
	b := &bench{dir: dir, spec: real.Spec{Root: filepath.Join(m.Dir, "www", "ferry"),
		URL: "https://ferry.skerryline.example", Title: "Skerry Ferries", Tagline: "Boats", Blocks: true,
		Posts: 20, Pictures: 4, Seed: 3, Prefix: "sk_", Server: m.Server(), Admin: m.Admin(), Database: "ferry",
		Password: "made up"}}
	if err := real.Make(ctx, b.spec); err != nil {
		return err
	}
	versions, err := real.PHPs(ctx)
	if err != nil {
		return err
	}
	b.php, _ = php.Choose(versions, "8.2")
	if err := b.starts(ctx, runs); err != nil {
		return err
	}
	if err := b.pages(ctx, pages); err != nil {
		return err
	}
	return b.many(ctx, many)
}

// ways are the two in which the site is run; without the wall first.
var ways = []bool{false, true}

// run starts the site behind a wall or without one.
func (b *bench) run(root string, sealed bool) (*web.Web, error) {
	b.n++
	s := web.Spec{Run: filepath.Join(b.dir, fmt.Sprint("w", b.n)), Root: root, PHP: b.php}
	if sealed {
		db := &web.Server{Account: b.spec.Database}
		db.Network, db.Addr, db.Dial = engines.Reach(local.New("slipway"), b.spec.Server)
		s.Sealed = &web.Sealed{ID: root, Bounds: site.UsualBounds, Names: []string{"ferry.skerryline.example"},
			Port: "80", Database: db}
	}
	return web.Start(s)
}

// ask times one page, in milliseconds.
func (b *bench) ask(ctx context.Context, w *web.Web) (float64, error) {
	began := time.Now()
	status, _, err := real.Get(ctx, w, b.spec, "/")
	if err == nil && status != 200 {
		err = fmt.Errorf("the site answers %d", status)
	}
	return time.Since(began).Seconds() * 1000, err
}

// starts times from the start of the programs until they answer, and until the first page is there.
func (b *bench) starts(ctx context.Context, runs int) error {
	var up, first [2][]float64
	for range runs {
		for i, sealed := range ways {
			began := time.Now()
			w, err := b.run(b.spec.Root, sealed)
			if err != nil {
				return err
			}
			up[i] = append(up[i], time.Since(began).Seconds()*1000)
			_, err = b.ask(ctx, w)
			first[i] = append(first[i], time.Since(began).Seconds()*1000)
			w.Stop()
			if err != nil {
				return err
			}
		}
	}
	tell("until its programs answer", up)
	tell("until its first page is there", first)
	return nil
}

// pages times pages of a site that has been asked before.
func (b *bench) pages(ctx context.Context, pages int) error {
	var took [2][]float64
	var both [2]*web.Web
	for i, sealed := range ways {
		w, err := b.run(b.spec.Root, sealed)
		if err != nil {
			return err
		}
		defer w.Stop()
		both[i] = w
		for range 10 { // its caches are warm then
			if _, err := b.ask(ctx, w); err != nil {
				return err
			}
		}
	}
	for range pages {
		for i, w := range both {
			ms, err := b.ask(ctx, w)
			if err != nil {
				return err
			}
			took[i] = append(took[i], ms)
		}
	}
	tell("a page", took)
	return nil
}

// many runs so many at once behind walls, asks all of them for pages together, and tells what memory that takes.
func (b *bench) many(ctx context.Context, many int) error {
	before, err := available()
	if err != nil {
		return err
	}
	var list []*web.Web
	defer func() {
		for _, w := range list {
			w.Stop()
		}
	}()
	for i := range many {
		root := filepath.Join(b.dir, fmt.Sprint("copy", i))
		if err := os.CopyFS(root, os.DirFS(b.spec.Root)); err != nil {
			return err
		}
		w, err := b.run(root, true)
		if err != nil {
			return err
		}
		list = append(list, w)
	}
	var all errgroup.Group
	for _, w := range list {
		for range w.Spec.Workers { // all of its processes have something to do then
			all.Go(func() error {
				for range 5 {
					if _, err := b.ask(ctx, w); err != nil {
						return err
					}
				}
				return nil
			})
		}
	}
	if err := all.Wait(); err != nil {
		return err
	}
	after, err := available()
	fmt.Printf("%d copies at once, each asked for %d pages by %d at once: %d MiB of memory\n", many,
		5*list[0].Spec.Workers, list[0].Spec.Workers, (before-after)>>10)
	return err
}

// available is the memory that this machine has to give, in KiB (proc_meminfo(5)).
func available() (n int, err error) {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(text), "MemAvailable:")
	_, err = fmt.Sscan(rest, &n)
	return n, err
}

// tell prints medians and lower quarters side by side.
func tell(what string, ms [2][]float64) {
	for i := range ms {
		slices.Sort(ms[i])
	}
	at := func(i, of int) float64 { return ms[i][len(ms[i])/of] }
	for _, of := range []int{2, 4} {
		name := map[int]string{2: "median", 4: "lower quarter"}[of]
		without, with := at(0, of), at(1, of)
		fmt.Printf("%-30s %-13s without %6.1f ms, with %6.1f ms: %+.1f ms, %+.1f %%\n", what, name, without, with,
			with-without, (with/without-1)*100)
	}
}
