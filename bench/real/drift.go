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
func (b *bench) drift(ctx context.Context, s real.Spec, name string) error {
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
		m.built.Seconds(), m.all.Seconds(), m.steps, float64(values.Size())/(1<<20), float64(values.Size())/bytes)
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
	if err := b.drifts(ctx, m, "1 % changed on both"); err != nil {
		return err
	}
	var items []string
	list, err := b.ask(ctx, "SELECT ID FROM "+s.Database+"."+s.Prefix+"posts WHERE post_type = 'post' AND "+
		"post_status = 'publish' AND ID % 100 NOT IN (3, 5) ORDER BY ID LIMIT 200")
	if err != nil {
		return err
	}
	for _, id := range strings.Fields(list) {
		items = append(items, "post:"+id)
	}
	for half := range 2 {
		part := items[half*len(items)/2 : (half+1)*len(items)/2]
		ids := strings.ReplaceAll(strings.Join(part, ","), "post:", "")
		if _, err := b.ask(ctx, change+"ID IN ("+ids+")"); err != nil {
			return err
		}
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
			took.Seconds()/m.built.Seconds(), peak(st)>>20)
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
