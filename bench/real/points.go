package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"alibi/internal/desk"
)

// points measures restore points beside what is done by hand: tar of the files
// and the database client's dump, both through zstd -3; and unpacking and
// loading these.
func (b *bench) points(ctx context.Context) error {
	s, name := b.spec, b.size
	dir := filepath.Join(b.pier.Dir, "kept")
	defer os.RemoveAll(dir)
	hand, err := b.timed(func() error {
		return sh(ctx, `mkdir -p "$4"; tar -C "$3" -cf - . | zstd -3 -q -o "$4/files.tar.zst"
			mariadb-dump --no-defaults -S "$1" --single-transaction "$2" | zstd -3 -q -o "$4/tables.sql.zst"`,
			b.pier.DB.Socket, s.Database, s.Root, dir)
	})
	if err != nil {
		return err
	}
	size, err := sizeOf(dir)
	if err != nil {
		return err
	}
	first, grown, peak, err := b.take(ctx, name+"-here")
	if err != nil {
		return err
	}
	if err := b.touch(ctx, s, 50); err != nil {
		return err
	}
	again, more, _, err := b.take(ctx, name+"-here")
	if err != nil {
		return err
	}
	back, err := b.timed(func() error {
		return sh(ctx, `mkdir -p "$2/back"; zstd -dcq "$2/files.tar.zst" | tar -C "$2/back" -xf -
			mariadb --no-defaults -S "$1" -e "CREATE DATABASE hand"
			zstd -dcq "$2/tables.sql.zst" | mariadb --no-defaults -S "$1" hand`, b.pier.DB.Socket, dir)
	})
	if err = errors.Join(err, sh(ctx, `mariadb --no-defaults -S "$1" -e "DROP DATABASE IF EXISTS hand"; rm -rf "$2"`,
		b.pier.DB.Socket, dir)); err != nil {
		return err
	}
	id, err := b.newest(ctx)
	if err != nil {
		return err
	}
	m, err := b.alibiRun(ctx, "then", "points", "copy", id, "--name", "then")
	if err != nil {
		return err
	}
	if err := b.judge(ctx, s, m.site); err != nil {
		return err
	}
	fmt.Printf(
		"  restore points: by hand %.2f s, %d MiB; the first %.2f s (%.2fx), %d MiB (%.2fx), peak %d MiB; one after "+
			"1 %% changed %.2f s (%.2fx of the first), %.1f MiB (%.3fx)\n",
		hand.Seconds(),
		size>>20,
		first.Seconds(),
		first.Seconds()/hand.Seconds(),
		grown>>20,
		float64(grown)/float64(size),
		peak>>20,
		again.Seconds(),
		again.Seconds()/first.Seconds(),
		float64(more)/(1<<20),
		float64(more)/float64(grown),
	)
	clean, err := b.alibiRun(ctx, m.site.Name, "reset", m.site.Name, "--confirm", m.site.Name)
	if err != nil {
		return err
	}
	undone, err := b.alibiRun(ctx, m.site.Name, "restore", m.site.Name, "--confirm", m.site.Name)
	if err != nil {
		return err
	}
	fmt.Printf(
		"  the copy cleaned in %.2f s, with its first restore point before; all of it brought back in place %.2f s "+
			"(%.2fx of by hand), %d MiB (%s)\n",
		clean.all.Seconds(),
		undone.all.Seconds(),
		undone.all.Seconds()/back.Seconds(),
		undone.peak>>20,
		undone.steps,
	)
	fmt.Printf("  restoring: by hand %.2f s; a copy of the point built %.2f s (%.2fx), proven %.2f s (%s)\n",
		back.Seconds(), m.answers.Seconds(), m.answers.Seconds()/back.Seconds(), m.all.Seconds(), m.steps)
	return b.remove(ctx, m.site)
}

// take takes a restore point and tells how long the run took and what the depot
// grew by.
func (b *bench) take(ctx context.Context, name string) (took time.Duration, grown, peak int64, err error) {
	depot := filepath.Join(b.home, "depot")
	before, err := sizeOf(depot)
	if err != nil {
		return 0, 0, 0, err
	}
	took, err = b.timed(func() error {
		st, err := b.command(ctx, "points", "take", name)
		if err == nil {
			peak = st.SysUsage().(*syscall.Rusage).Maxrss << 10
		}
		return err
	})
	if err != nil {
		return 0, 0, 0, err
	}
	after, err := sizeOf(depot)
	return took, after - before, peak, err
}

// sizeOf adds up the files below a folder; none is 0.
func sizeOf(dir string) (n int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		fi, err := d.Info()
		if err == nil {
			n += fi.Size()
		}
		return err
	})
	return n, err
}

// newest is the number of the newest restore point.
func (b *bench) newest(ctx context.Context) (string, error) {
	d, err := desk.Open(ctx, desk.Options{Home: b.home})
	if err != nil {
		return "", err
	}
	defer d.Close()
	list, _, err := d.Points.Points(ctx, "")
	if err != nil || len(list) == 0 {
		return "", errors.Join(err, errors.New("there is no restore point"))
	}
	return list[0].ID, nil
}
