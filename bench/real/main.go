// Command real measures Alibi against what is done by hand: it makes real
// WordPress sites of three sizes on two machines that it starts, copies each by
// the client programs of the trade and by Alibi in turn, has the copies judged
// by judge.php, and prints both side by side.
//
//	go run ./bench/real [-size small,medium,large] [-runs 3] [-keep DIR] [-only CASES] [-json FILE] [-alibi A,B]
//	    [-profile DIR]
//	go run ./bench/real -history FILE
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"alibi/internal/demo/real"
	"alibi/internal/desk"
	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

func main() {
	sizes := flag.String("size", "small,medium,large", "which sizes")
	runs := flag.Int("runs", 3, "how often each is measured")
	keep := flag.String("keep", "", "folder to keep the sites in between calls")
	only := flag.String("only", strings.Join(cases, ","), "which cases")
	record := flag.String("json", "", "file to which a JSON line is added for each figure")
	builds := flag.String("alibi", "bin/alibi", "the programs to measure, in alternation")
	profile := flag.String("profile", "", "folder for profiles, of a program that was built with -tags profile")
	past := flag.String("history", "", "print the figures of such a file as a table, and measure nothing")
	flag.Parse()
	if *past != "" {
		if err := history(*past); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	b := &bench{dir: *keep, record: *record, profile: *profile}
	err := b.choose(strings.Split(*only, ","), strings.Split(*builds, ","))
	if err == nil {
		err = b.measure(context.Background(), strings.Split(*sizes, ","), *runs)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// bench is the two machines and an Alibi.
type bench struct {
	dir, run, key string
	pier, dock    *real.Machine
	home, alibi   string
	builds        []string // to be measured; alibi is one of them
	php           string
	only          []string // cases
	record        string
	profile       string
	calls         int // that were profiled
	spec          real.Spec
	size          string
}

func (b *bench) measure(ctx context.Context, sizes []string, runs int) error {
	var err error
	if b.dir == "" {
		if b.dir, err = os.MkdirTemp("", "alibi-bench-"); err != nil {
			return err
		}
		defer os.RemoveAll(b.dir)
	}
	if err := b.start(ctx); err != nil {
		return err
	}
	defer b.stop()
	for _, size := range sizes {
		if err := b.sized(ctx, size, runs); err != nil {
			return fmt.Errorf("%s: %w", size, err)
		}
	}
	return nil
}

func (b *bench) start(ctx context.Context) error {
	var err error
	if b.run, err = os.MkdirTemp("", "alibi-bench-run-"); err != nil {
		return err
	}
	b.key = filepath.Join(b.run, "key")
	pub, err := real.NewKey(b.key, "")
	if err != nil {
		return err
	}
	for name, m := range map[string]**real.Machine{"pier": &b.pier, "drydock": &b.dock} {
		if *m, err = real.StartMachine(real.MachineOptions{Name: name, Dir: filepath.Join(b.dir, name),
			Run: filepath.Join(b.run, name), Key: pub}); err != nil {
			return err
		}
	}
	versions, err := real.PHPs(ctx)
	if err != nil {
		return err
	}
	for _, p := range versions {
		if p.Series() == "8.2" {
			b.php = p.CLI
		}
	}
	b.home = filepath.Join(b.run, "home")
	if err := os.MkdirAll(b.home, 0o700); err != nil {
		return err
	}
	if err := desk.SaveConfig(b.home, desk.Config{Machine: "slipway", Gateway: desk.Gateway{Port: 17771},
		Lease:    desk.LeaseRules{Default: "3d", Grace: "2d"},
		Database: site.Server{Address: b.pier.Server(), User: "root"}}); err != nil {
		return err
	}
	return nil
}

func (b *bench) stop() {
	for _, m := range []*real.Machine{b.pier, b.dock} {
		if m != nil {
			m.Close()
		}
	}
	process.Reap(b.run)
	os.RemoveAll(b.run)
}

// site makes the origin of a size, on pier, unless an earlier call left it.
func (b *bench) site(ctx context.Context, size string) (real.Spec, error) {
	s := real.Spec{
		Root:     filepath.Join(b.pier.Dir, "www", size),
		URL:      "https://" + size + ".skerryline.example",
		Title:    "Skerry " + size,
		Tagline:  "Boats",
		Blocks:   true,
		Posts:    20,
		Pictures: 4,
		Seed:     3,
		Prefix:   map[string]string{"small": "wp_", "medium": "sk_", "large": "sk_"}[size],
		Server:   b.pier.Server(),
		Admin:    b.pier.Admin(),
		Database: "ferry_" + size,
		Password: "made up",
	}
	if _, err := os.Stat(s.Root); err == nil {
		return s, rewriteSocket(s)
	}
	if err := real.Make(ctx, s); err != nil {
		return s, err
	}
	out, err := exec.CommandContext(ctx, b.php, "-d", "memory_limit=2G", "-d", "opcache.enable_cli=0",
		"bench/site/fill.php", s.Root, size).CombinedOutput()
	if err != nil {
		return s, fmt.Errorf("filling the site: %w: %s", err, out)
	}
	return s, nil
}

// rewriteSocket has a kept site use the server of this call.
func rewriteSocket(s real.Spec) error {
	file := filepath.Join(s.Root, "wp-config.php")
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	lines := strings.Split(string(b), "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, "define( 'DB_HOST'") {
			lines[i] = "define( 'DB_HOST', '" + s.Server + "' );"
		}
	}
	return os.WriteFile(file, []byte(strings.Join(lines, "\n")), 0o600)
}

// rest waits until nothing is left to be written to disk by what ran before, and has what is in the origin's files in
// memory and nothing else: ext4 is slow to make files for minutes after others were removed, as long as it has
// these in mind, and would be so for whoever is measured next.
func (b *bench) rest() error {
	syscall.Sync()
	if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0); err != nil {
		return fmt.Errorf("%w; measure as root", err)
	}
	return filepath.WalkDir(b.spec.Root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{f})
		return err
	})
}

// timed measures f after a rest.
func (b *bench) timed(f func() error) (time.Duration, error) {
	if err := b.rest(); err != nil {
		return 0, err
	}
	began := time.Now()
	err := f()
	return time.Since(began), err
}

func sh(ctx context.Context, script string, args ...string) error {
	out, err := exec.CommandContext(ctx, "bash", append([]string{"-c", "set -euo pipefail; " + script, "bench"},
		args...)...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// byHand is how it is done without a tool on one machine: dump, exchange the
// address in the text, load; and copy the files. It breaks serialized values.
func (b *bench) byHand(ctx context.Context, s real.Spec, i int) (time.Duration, error) {
	to := filepath.Join(b.pier.Dir, "hand")
	took, err := b.timed(func() error {
		return sh(ctx, `mariadb --no-defaults -S "$1" -e "CREATE DATABASE hand"
		mariadb-dump --no-defaults -S "$1" --single-transaction "$2" |
		sed "s#$3#http://hand-$6.localhost:7700#g" | mariadb --no-defaults -S "$1" hand
		cp -a "$4" "$5"`, b.pier.DB.Socket, s.Database, s.URL, s.Root, to, fmt.Sprint(i))
	})
	return took,
		errors.Join(err, sh(ctx, `mariadb --no-defaults -S "$1" -e "DROP DATABASE IF EXISTS hand"; rm -rf "$2"`,
			b.pier.DB.Socket, to))
}

// byHandTwo is the same between two machines, through ssh and tar; or, from the origin's to where it is typed.
func (b *bench) byHandTwo(ctx context.Context, s real.Spec, i int, near bool) (time.Duration, error) {
	to := filepath.Join(b.dock.Dir, "hand")
	ssh := func(m *real.Machine) string {
		return fmt.Sprintf("ssh -q -i %s -p %s -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null "+
			"%s@127.0.0.1", b.key, m.Port, m.User)
	}
	there := ssh(b.dock)
	if near {
		there = "bash -c"
	}
	took, err := b.timed(func() error {
		return sh(ctx, `$6 "mariadb --no-defaults -S $2 -e 'CREATE DATABASE hand'; mkdir -p $5"
		$7 "mariadb-dump --no-defaults -S $1 --single-transaction $3" |
		sed "s#$8#http://hand-$9.localhost:7700#g" | $6 "mariadb --no-defaults -S $2 hand"
		$7 "tar -C $4 -cf - ." | $6 "tar -C $5 -xf -"`, b.pier.DB.Socket, b.dock.DB.Socket, s.Database, s.Root, to,
			there, ssh(b.pier), s.URL, fmt.Sprint(i))
	})
	return took,
		errors.Join(err, sh(ctx, `mariadb --no-defaults -S "$1" -e "DROP DATABASE IF EXISTS hand"; rm -rf "$2"`,
			b.dock.DB.Socket, to))
}

// add tells Alibi of the machines and of the site. The pier is this machine
// under another name for copies to the other host, so that the same site is
// read from its disk once and by SSH once.
func (b *bench) add(ctx context.Context) error {
	d, err := desk.Open(ctx, desk.Options{Home: b.home, Asker: yes{}})
	if err != nil {
		return err
	}
	defer d.Close()
	for _, m := range []*real.Machine{b.pier, b.dock} {
		if _, err := d.Workings().Record.Host(ctx, m.Name); err == nil {
			continue
		}
		if err := d.Fleet.AddHost(ctx, inventory.Host{Name: m.Name, Addr: "127.0.0.1", Port: m.Port, User: m.User,
			Key:    b.key,
			Copies: filepath.Join(m.Dir, "copies"),
			Server: site.Server{Address: m.Server(), User: "root"}}); err != nil {
			return err
		}
	}
	if _, err := d.Fleet.AddSite(ctx, desk.NewSite{Root: b.spec.Root, Name: b.size + "-here"}); err != nil {
		return err
	}
	_, err = d.Fleet.AddSite(ctx, desk.NewSite{Host: "pier", Root: b.spec.Root, Name: b.size + "-there"})
	return err
}

type yes struct{}

func (yes) HostKey(string, string) (bool, error) { return true, nil }
func (yes) Secret(string) (string, error)        { return "", errors.New("there is none") }

// made is a copy that was measured, from the command on.
type made struct {
	site            site.Site
	answers, proven time.Duration // until its step has ended
	all             time.Duration // until the command has
	peak            int64         // bytes
	steps           string
}

func (b *bench) copy(ctx context.Context, as, hostName string) (made, error) {
	from := b.size + "-here"
	if hostName != "slipway" {
		from = b.size + "-there"
	}
	return b.copyOf(ctx, from, as, "--host", hostName)
}

func (b *bench) copyOf(ctx context.Context, from, as string, more ...string) (made, error) {
	return b.alibiRun(ctx, as, append([]string{"copy", from, "--name", as, "--for", "a measurement", "--as-it-is"},
		more...)...)
}

func (b *bench) refresh(ctx context.Context, s site.Site) (made, error) {
	return b.alibiRun(ctx, s.Name, "refresh", s.Name, "--confirm", s.Name)
}

func (b *bench) remove(ctx context.Context, s site.Site) error {
	_, err := b.command(ctx, "remove", s.Name, "--confirm", s.Name)
	return err
}

func (b *bench) command(ctx context.Context, args ...string) (*os.ProcessState, error) {
	cmd := exec.CommandContext(ctx, b.alibi, append([]string{"--home", b.home}, args...)...)
	if b.profile != "" {
		b.calls++
		to := filepath.Join(b.profile, fmt.Sprintf("%02d-%s", b.calls, strings.Join(args[:min(2, len(args)-1)], "-")))
		if err := os.MkdirAll(to, 0o755); err != nil {
			return nil, err
		}
		cmd.Env = append(os.Environ(), "ALIBI_PROFILE="+to)
	}
	out, err := cmd.CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("alibi %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return cmd.ProcessState, nil
}

func (b *bench) alibiRun(ctx context.Context, name string, args ...string) (made, error) {
	var m made
	if err := b.rest(); err != nil {
		return m, err
	}
	began := time.Now()
	st, err := b.command(ctx, args...)
	if err != nil {
		return m, err
	}
	m.all = time.Since(began)
	m.peak = peak(st)
	d, err := desk.Open(ctx, desk.Options{Home: b.home})
	if err != nil {
		return m, err
	}
	defer d.Close()
	if m.site, err = d.Fleet.Find(ctx, name); err != nil {
		return m, err
	}
	runs, err := d.Workings().Record.Runs(ctx, 1)
	if err != nil || len(runs) == 0 || runs[0].State != plan.Done {
		return m, fmt.Errorf("the run did not end well: %w", err)
	}
	for _, p := range runs[0].Steps {
		switch p.Name {
		case "open":
			m.answers = p.Ended.Sub(began)
		case "evidence", "prove":
			m.proven = p.Ended.Sub(began)
		}
		m.steps += fmt.Sprintf("%s %.2f ", p.Name, p.Ended.Sub(p.Began).Seconds())
	}
	return m, nil
}

// peak is the largest memory of a process that ended, in bytes.
func peak(st *os.ProcessState) int64 { return st.SysUsage().(*syscall.Rusage).Maxrss << 10 }

// touch changes one in a hundred posts and files of the origin.
func (b *bench) touch(ctx context.Context, s real.Spec, i int) error {
	return sh(
		ctx,
		`mariadb --no-defaults -S "$1" "$2" -e "UPDATE $3posts SET post_title = CONCAT(post_title, '+') WHERE ID % 100 = $4;
		UPDATE $3postmeta SET meta_value = CONCAT(meta_value, '') WHERE meta_id % 100 = 7"
		find "$5/wp-content/uploads" -type f -name "file-*$((10 + $4)).*" | while read -r f; do printf x >>"$f"; done`,
		b.pier.DB.Socket,
		s.Database,
		s.Prefix,
		fmt.Sprint(i),
		s.Root,
	)
}

func (b *bench) judge(ctx context.Context, s real.Spec, copied site.Site) error {
	out, err := exec.CommandContext(ctx, b.php, "-d", "memory_limit=4G", "bench/judge.php", s.Root, copied.Root, s.URL,
		copied.Address().String()).CombinedOutput()
	fmt.Printf("  judged: %s\n", strings.TrimSpace(string(out)))
	return err
}
