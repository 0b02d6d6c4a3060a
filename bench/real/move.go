package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/desk"
	"alibi/internal/plan"
)

// move measures the first pass of a move to the other host, a pass after one in a thousand rows and some files changed,
// and for how long nobody can write when it is switched over after as much, and back.
func (b *bench) move(ctx context.Context, i int, to *sums) error {
	hand, err := b.byHandTwo(ctx, b.spec, i, false)
	if err != nil {
		return err
	}
	return b.each(func(build string) error {
		from, name := b.size+"-there", fmt.Sprintf("%s-%d", b.size, i)
		do := func(args ...string) error {
			_, err := b.command(ctx, append([]string{"move", name}, args...)...)
			return err
		}
		if _, err := b.command(ctx, "move", from, "--to", "drydock", "--name", name, "--root",
			filepath.Join(b.dock.Dir, "moved-"+name)); err != nil {
			return err
		}
		first, err := b.alibiRun(ctx, from, "move", name, "carry")
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "move, first pass", hand, ended(first)); err != nil {
			return err
		}
		if err := b.some(ctx, i); err != nil {
			return err
		}
		next, err := b.alibiRun(ctx, from, "move", name, "carry")
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "move, after 0.1 %", first.all, ended(next)); err != nil {
			return err
		}
		if err := do("check"); err != nil {
			return err
		}
		if err := b.some(ctx, i+500); err != nil {
			return err
		}
		if err := do("switch", "--confirm", from); err != nil {
			return err
		}
		if err := do("back", "--confirm", from); err != nil {
			return err
		}
		if err := b.held(ctx, name); err != nil {
			return err
		}
		if err := do("clear", "--confirm", from); err != nil {
			return err
		}
		return do("forget")
	})
}

// ended is a run that has one end only.
func ended(m made) made {
	m.answers, m.proven = m.all, m.all
	return m
}

// some changes one in a thousand rows, and some files.
func (b *bench) some(ctx context.Context, i int) error {
	return sh(ctx, `mariadb --no-defaults -S "$1" "$2" -e "
		UPDATE $3posts SET post_title = CONCAT(post_title, '+') WHERE ID % 1000 = $4;
		UPDATE $3postmeta SET meta_value = CONCAT(meta_value, '') WHERE meta_id % 1000 = $4"
		find "$5/wp-content/uploads" -type f -name "file-*$4.*" | sed -n 1,25p | while read -r f; do printf x >>"$f"; done`,
		b.pier.DB.Socket, b.spec.Database, b.spec.Prefix, fmt.Sprint(i+11), b.spec.Root)
}

// held says for how long nobody could write.
func (b *bench) held(ctx context.Context, name string) error {
	d, err := desk.Open(ctx, desk.Options{Home: b.home})
	if err != nil {
		return err
	}
	defer d.Close()
	m, err := d.Moves.Find(ctx, name)
	if err != nil {
		return err
	}
	for _, s := range m.Switches {
		r, err := d.Runs.Run(ctx, s.Run)
		if err != nil {
			return err
		}
		fmt.Printf("  switch (back: %t): nobody could write for %.2f s (%s)\n", s.Back, s.Held.Seconds(), stepsOf(r))
	}
	return nil
}

func stepsOf(r plan.Run) (out string) {
	for _, p := range r.Steps {
		out += fmt.Sprintf("%s %.1f ", p.Name, p.Took(time.Now()).Seconds())
	}
	return out
}

// load measures what visitors of the live site wait for while it is carried to the other host, by hand and by Alibi:
// the time within which 95 of 100 answers came. The live site's machine has one processor, and all else the other.
func (b *bench) load(ctx context.Context) error {
	from, name := b.size+"-there", b.size+"-load"
	waits := func(do func() error) (float64, error) {
		if err := pin(os.Getpid(), 0); err != nil { // the web server follows
			return 0, err
		}
		list, err := b.during(ctx, b.spec, func() error {
			if err := apart(filepath.Join(b.run, "pier")+"/", filepath.Join(b.run, "drydock")+"/"); err != nil {
				return err
			}
			return do()
		})
		if err != nil {
			return 0, err
		}
		return list.of(0.95) * 1000, nil
	}
	idle, err := waits(func() error { time.Sleep(10 * time.Second); return nil })
	if err != nil {
		return err
	}
	hand, err := waits(func() error {
		_, err := b.byHandTwo(ctx, b.spec, 901, false)
		return err
	})
	if err != nil {
		return err
	}
	if _, err := b.command(ctx, "move", from, "--to", "drydock", "--name", name, "--root",
		filepath.Join(b.dock.Dir, "moved-"+name)); err != nil {
		return err
	}
	carry := func() error {
		_, err := b.command(ctx, "move", name, "carry")
		return err
	}
	first, err := waits(carry)
	if err != nil {
		return err
	}
	if err := b.some(ctx, 700); err != nil {
		return err
	}
	next, err := waits(carry)
	if err != nil {
		return err
	}
	more := func(is float64) float64 { return (is/idle - 1) * 100 }
	fmt.Printf("  95 of 100 answers of the live site meanwhile: %.0f ms before; by hand %.0f ms, %+.0f %%; the first "+
		"pass %.0f ms, %+.0f %%; a later one %.0f ms, %+.0f %%\n", idle, hand, more(hand), first, more(first), next,
		more(next))
	for _, act := range [][]string{{"clear", "--confirm", from}, {"forget"}} {
		if _, err := b.command(ctx, append([]string{"move", name}, act...)...); err != nil {
			return err
		}
	}
	return nil
}
