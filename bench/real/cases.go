package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// cases are what is measured: a copy on the same server and its refresh, a copy to another host, one from another host
// whose media come behind, one with a value of very many addresses, answers of the live site meanwhile, restore points,
// drift, and a move.
var cases = []string{"here", "far", "behind", "value", "visitors", "points", "drift", "move", "load"}

// choose says what is measured, and which programs.
func (b *bench) choose(only, builds []string) error {
	for _, c := range only {
		if !slices.Contains(cases, c) {
			return fmt.Errorf("%q is no case; these are: %s", c, strings.Join(cases, ", "))
		}
	}
	b.only = only
	for _, p := range builds {
		full, err := filepath.Abs(p)
		if err != nil {
			return err
		}
		if _, err := os.Stat(full); err != nil {
			return fmt.Errorf("%w; build it with make build", err)
		}
		b.builds = append(b.builds, full)
	}
	b.alibi = b.builds[0]
	return nil
}

// sized measures all with a site of one size.
func (b *bench) sized(ctx context.Context, size string, runs int) (err error) {
	b.size = size
	if b.spec, err = b.site(ctx, size); err != nil {
		return err
	}
	if err := b.add(ctx); err != nil {
		return err
	}
	fmt.Printf("\n== %s\n", size)
	total := &sums{}
	for i := range runs {
		for _, k := range b.only {
			one := map[string]func(context.Context, int, *sums) error{"here": b.here, "far": b.far,
				"behind": b.behind, "value": b.value, "move": b.move}[k]
			if one == nil {
				continue
			}
			if err := one(ctx, i, total); err != nil {
				return err
			}
		}
	}
	total.print(size)
	for _, k := range b.only {
		one := map[string]func(context.Context) error{"visitors": b.answers, "points": b.points, "drift": b.drift,
			"load": b.load}[k]
		if one == nil {
			continue
		}
		if err := one(ctx); err != nil {
			return err
		}
	}
	return nil
}

// here measures a copy on the origin's server beside one by hand, a refresh when nothing changed, and one after one in
// a hundred rows and files did.
func (b *bench) here(ctx context.Context, i int, to *sums) error {
	hand, err := b.byHand(ctx, b.spec, i)
	if err != nil {
		return err
	}
	return b.each(func(build string) error {
		m, err := b.copy(ctx, fmt.Sprintf("%s-%d", b.size, i), "slipway")
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "same server", hand, m); err != nil {
			return err
		}
		same, err := b.refresh(ctx, m.site)
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "refresh, nothing changed", m.answers, same); err != nil {
			return err
		}
		if i == 0 {
			if err := errors.Join(b.judge(ctx, b.spec, m.site), b.pages(ctx, b.spec, m.site)); err != nil {
				return err
			}
		}
		if err := b.touch(ctx, b.spec, i); err != nil {
			return err
		}
		r, err := b.refresh(ctx, m.site)
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "refresh, 1 % changed", m.answers, r); err != nil {
			return err
		}
		if i == 0 {
			if err := b.judge(ctx, b.spec, r.site); err != nil {
				return err
			}
		}
		return b.remove(ctx, m.site)
	})
}

// far measures a copy to the other host.
func (b *bench) far(ctx context.Context, i int, to *sums) error {
	hand, err := b.byHandTwo(ctx, b.spec, i, false)
	if err != nil {
		return err
	}
	return b.each(func(build string) error {
		m, err := b.copy(ctx, fmt.Sprintf("%s-far-%d", b.size, i), "drydock")
		if err != nil {
			return err
		}
		if err := b.tell(to, build, "two hosts", hand, m); err != nil {
			return err
		}
		if i == 0 {
			if err := b.judge(ctx, b.spec, m.site); err != nil {
				return err
			}
		}
		return b.remove(ctx, m.site)
	})
}

// behind measures a copy from another host, whose media come first, and one whose media come behind.
func (b *bench) behind(ctx context.Context, i int, to *sums) error {
	hand, err := b.byHandTwo(ctx, b.spec, i, true)
	if err != nil {
		return err
	}
	return b.each(func(build string) error {
		for _, how := range []string{"first", "behind"} {
			m, err := b.copyOf(ctx, b.size+"-there", fmt.Sprintf("%s-%s-%d", b.size, how, i), "--media", how)
			if err != nil {
				return err
			}
			if err := b.tell(to, build, "from another host, media "+how, hand, m); err != nil {
				return err
			}
			if i == 0 {
				if err := b.judge(ctx, b.spec, m.site); err != nil {
					return err
				}
			}
			if err := b.remove(ctx, m.site); err != nil {
				return err
			}
		}
		return nil
	})
}

// value measures a copy, and one of the site with a value of a megabyte that holds 25,000 addresses.
func (b *bench) value(ctx context.Context, i int, to *sums) error {
	with := func(statement string) error {
		return sh(ctx, `mariadb --no-defaults -S "$1" "$2" -e "$3"`, b.pier.DB.Socket, b.spec.Database, statement)
	}
	return b.each(func(build string) error {
		without, err := b.copy(ctx, fmt.Sprintf("%s-plain-%d", b.size, i), "slipway")
		if err != nil {
			return err
		}
		if err := errors.Join(b.remove(ctx, without.site), with(fmt.Sprintf("INSERT INTO %sposts (post_title, post_name, "+
			"post_content, post_excerpt, to_ping, pinged, post_content_filtered) VALUES ('many', 'many', "+
			"REPEAT('%s/a b ', 25000), '', '', '', '')", b.spec.Prefix, b.spec.URL))); err != nil {
			return err
		}
		m, err := b.copy(ctx, fmt.Sprintf("%s-many-%d", b.size, i), "slipway")
		if err = errors.Join(err, with("DELETE FROM "+b.spec.Prefix+"posts WHERE post_name = 'many'")); err != nil {
			return err
		}
		fmt.Printf("  a value with 25,000 addresses: %.2f s until it answers, %.2f s without (%+.2f s)\n",
			m.answers.Seconds(), without.answers.Seconds(), (m.answers - without.answers).Seconds())
		return errors.Join(b.tell(to, build, "a value of 25,000 addresses", without.answers, m), b.remove(ctx, m.site))
	})
}

// each does something with each of the programs.
func (b *bench) each(do func(build string) error) error {
	defer func() { b.alibi = b.builds[0] }()
	for _, p := range b.builds {
		b.alibi = p
		if err := do(filepath.Base(p)); err != nil {
			return err
		}
	}
	return nil
}

// figure is one line of the record.
type figure struct {
	At      time.Time `json:"at"`
	Build   string    `json:"build"`
	Size    string    `json:"size"`
	Case    string    `json:"case"`
	Against float64   `json:"against"` // by hand, or of a first copy until it answered, in seconds
	Answers float64   `json:"answers"` // seconds
	Proven  float64   `json:"proven"`  // seconds
	All     float64   `json:"all"`     // seconds, with what is kept for merging later
	Peak    int64     `json:"peak"`    // bytes of memory
	Steps   string    `json:"steps"`
}

// tell prints what was measured, and adds it to the record and to the sums.
func (b *bench) tell(to *sums, build, what string, against time.Duration, m made) error {
	f := figure{time.Now(), build, b.size, what, against.Seconds(), m.answers.Seconds(), m.proven.Seconds(),
		m.all.Seconds(), m.peak, strings.TrimSpace(m.steps)}
	fmt.Printf("  %s, %s: against %.2f s; answers after %.2f s (%.2fx), proven after %.2f s (%.2fx), %.2f s in all, "+
		"%d MiB (%s)\n", build, what, f.Against, f.Answers, f.Answers/f.Against, f.Proven, f.Proven/f.Against, f.All,
		f.Peak>>20, f.Steps)
	to.list = append(to.list, f)
	if b.record == "" {
		return nil
	}
	out, err := os.OpenFile(b.record, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(json.NewEncoder(out).Encode(f), out.Close())
}

// sums are the figures of one size.
type sums struct{ list []figure }

// print gives the medians, by case and program: of the ratios, each of one run.
func (s *sums) print(size string) {
	by := map[string][]figure{}
	for _, f := range s.list {
		k := f.Case + ", " + f.Build
		by[k] = append(by[k], f)
	}
	keys := make([]string, 0, len(by))
	for k := range by {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		fmt.Printf("%s, %s, medians of %d: answers %.2fx, proven %.2fx of %.2f s\n", size, k, len(by[k]),
			median(by[k], func(f figure) float64 { return f.Answers / f.Against }),
			median(by[k], func(f figure) float64 { return f.Proven / f.Against }),
			median(by[k], func(f figure) float64 { return f.Against }))
	}
}

func median(list []figure, of func(figure) float64) float64 {
	var l []float64
	for _, f := range list {
		l = append(l, of(f))
	}
	slices.Sort(l)
	return l[len(l)/2]
}
