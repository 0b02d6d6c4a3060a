package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/demo/real"
)

// drift measures what it costs to know what became of two sites, and to carry a hundred posts home by SSH.
func (b *bench) drift(ctx context.Context) error {
	s, name := b.spec, b.size
	m, err := b.alibiRun(ctx, name+"-drift", "copy", name+"-there", "--name", name+"-drift", "--for", "a measurement",
		"--as-it-is")
	if err != nil {
		return err
	}
	defer b.remove(ctx, m.site) //nolint:errcheck // the folder goes anyway
	values, err := os.Stat(filepath.Join(b.home, "copies", m.site.Name, "values.db"))
	if err != nil {
		return err
	}
	tables, err := b.ask(ctx, "SELECT SUM(file_size) FROM information_schema.innodb_sys_tablespaces WHERE name LIKE '"+
		s.Database+"/%'")
	if err != nil {
		return err
	}
	var bytes float64
	if _, err := fmt.Sscan(tables, &bytes); err != nil {
		return err
	}
	fmt.Printf("  a copy by SSH: built %.2f s, whole %.2f s (%s); values kept: %.1f MiB, %.2f of the tables\n",
		m.answers.Seconds(), m.all.Seconds(), m.steps, float64(values.Size())/(1<<20), float64(values.Size())/bytes)
	if err := b.drifts(ctx, m, "nothing changed"); err != nil {
		return err
	}
	if err := b.touch(ctx, s, 3); err != nil {
		return err
	}
	change := "UPDATE " + m.site.Database.Name + "." + s.Prefix + "posts SET post_title = CONCAT(post_title, '-') WHERE "
	if _, err := b.ask(ctx, change+"ID % 100 = 5"); err != nil {
		return err
	}
	time.Sleep(still)
	if err := b.drifts(ctx, m, "1 % changed on both"); err != nil {
		return err
	}
	return b.carries(ctx, s, m, name)
}

// pushes is how often things are carried home.
const pushes = 6

// still is for how long nobody changes anything before what was changed is looked for: the server tells by the second
// when a table was written to.
const still = 3 * time.Second

// quiet is for how long the live site's answers are timed while nothing else is done.
const quiet = 20 * time.Second

// carries carries hundreds of posts home, and times what visitors of the live site wait meanwhile.
func (b *bench) carries(ctx context.Context, s real.Spec, m made, name string) error {
	var items []string
	list, err := b.ask(ctx, "SELECT ID FROM "+s.Database+"."+s.Prefix+"posts WHERE post_type = 'post' AND "+
		"post_status = 'publish' AND ID % 100 NOT IN (3, 5) ORDER BY ID LIMIT "+fmt.Sprint(pushes*100))
	if err != nil {
		return err
	}
	for _, id := range strings.Fields(list) {
		items = append(items, "post:"+id)
	}
	before, err := b.during(ctx, s, func() error { time.Sleep(quiet); return nil })
	if err != nil {
		return err
	}
	meanwhile, err := b.during(ctx, s, func() error { return b.pushes(ctx, s, m, name, items) })
	if err != nil {
		return err
	}
	fmt.Printf("  the live site's answers while nothing is done: median %.0f ms, 95 of 100 within %.0f ms; while things "+
		"are carried home: %.0f ms, %.0f ms: %+.0f %%, %+.0f %% (%d and %d answers)\n", before.median()*1000,
		before.of(0.95)*1000, meanwhile.median()*1000, meanwhile.of(0.95)*1000,
		(meanwhile.median()/before.median()-1)*100, (meanwhile.of(0.95)/before.of(0.95)-1)*100, len(before),
		len(meanwhile))
	return nil
}

func (b *bench) pushes(ctx context.Context, s real.Spec, m made, name string, items []string) error {
	change := "UPDATE " + m.site.Database.Name + "." + s.Prefix + "posts SET post_title = CONCAT(post_title, '-') WHERE "
	for n := range pushes {
		part := items[n*len(items)/pushes : (n+1)*len(items)/pushes]
		ids := strings.ReplaceAll(strings.Join(part, ","), "post:", "")
		if _, err := b.ask(ctx, change+"ID IN ("+ids+")"); err != nil {
			return err
		}
		time.Sleep(still)
		r, err := b.alibiRun(ctx, m.site.Name, append([]string{"sync", m.site.Name, "--to", "live", "--confirm",
			name + "-there"}, part...)...)
		if err != nil {
			return err
		}
		fmt.Printf("  %d items carried home by SSH: %.2f s from the command to proven, %d MiB (%s)\n", len(part),
			r.all.Seconds(), r.peak>>20, r.steps)
	}
	return nil
}

func (b *bench) drifts(ctx context.Context, m made, what string) error {
	for range 3 {
		began := time.Now()
		st, err := b.command(ctx, "drift", m.site.Name)
		if err != nil {
			return err
		}
		took := time.Since(began)
		fmt.Printf("  drift, %s: %.2f s, %.2f of a first copy, %d MiB\n", what, took.Seconds(),
			took.Seconds()/m.answers.Seconds(), peak(st)>>20)
	}
	return nil
}

// ask asks the site's database server for one column.
func (b *bench) ask(ctx context.Context, q string) (string, error) {
	out, err := exec.CommandContext(ctx, "mariadb", "--no-defaults", "-S", b.pier.DB.Socket, "-N", "-B", "-e",
		q).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return strings.TrimSpace(string(out)), nil
}
