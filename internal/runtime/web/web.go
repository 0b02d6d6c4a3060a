// Package web runs the code of a site on this machine: PHP-FPM behind nginx
// where both are installed, PHP's own server where there is only that. Each
// site has processes, sockets and configuration of its own.
package web

import (
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"text/template"
	"time"

	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
)

//go:embed nginx.conf php-fpm.conf router.php carrier.php awaited.php
var files embed.FS

var configs = template.Must(template.New("").Funcs(template.FuncMap{"quote": quote}).ParseFS(files, "nginx.conf",
	"php-fpm.conf"))

// quote writes a word of a configuration in double quotes.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`).Replace(s) + `"`
}

// Spec is how a site is to run.
type Spec struct {
	Run     string   // folder of its sockets and configuration; its path is short
	Logs    string   // folder to which its errors and the requests are written
	Root    string   // document root
	Also    []string // folders beside the root that its code may use
	Mail    string   // folder to which the mail that its code sends is written
	PHP     php.PHP
	Memory  string        // of one request, such as 256M; "" is PHP's own
	RunTime time.Duration // of one request; 0 is PHP's own
	Upload  string        // largest upload, such as 64M
	Workers int           // requests at once; 0: 4
	Show    bool          // show errors on pages
	SubDirs bool          // a network whose sites are folders
	User    string        // the account that it runs as, where we are root; "": root
	Load    []string      // arguments with which PHP loads its extensions; none: the usual ones
	Sealed  *Sealed       // nil: its programs run like any other, as those of a live site do
}

// ErrNoPHP is given where no PHP can run the site.
var ErrNoPHP = errors.New("no PHP is installed on this machine")

// Web is a running site.
type Web struct {
	Spec  Spec
	Kind  string // "php-fpm behind nginx", "php's own server"
	addr  string
	net   string
	procs []*process.Process
	gone  chan struct{}
	// closers are what is carried out of its world.
	closers []io.Closer
	// tooLarge says that it was stopped for what its folders hold.
	tooLarge atomic.Bool
}

// Start starts the programs and waits until they answer.
func Start(s Spec) (*Web, error) {
	if s.Workers == 0 {
		s.Workers = 4
	}
	if s.Logs == "" {
		s.Logs = s.Run
	}
	for _, d := range []string{s.Run, filepath.Join(s.Run, "tmp"), s.Logs, s.Mail} {
		if err := os.MkdirAll(d, 0o700); err != nil && d != "" {
			return nil, fmt.Errorf("making room for the site's sockets, logs and mail: %w", err)
		}
	}
	if s.Sealed != nil && s.Sealed.Full {
		if err := s.fits(); err != nil {
			return nil, err
		}
	}
	support, err := s.Support()
	if err != nil {
		return nil, err
	}
	for name, text := range support {
		if err := os.WriteFile(filepath.Join(s.Run, name), text, 0o700); err != nil {
			return nil, err
		}
	}
	w := &Web{Spec: s, gone: make(chan struct{})}
	if err := w.await(); err != nil {
		w.Stop()
		return nil, fmt.Errorf("making room for what is still to come: %w", err)
	}
	nginx, err := program("nginx")
	switch {
	case s.PHP.FPM != "" && err == nil:
		err = w.behindNginx(nginx)
	case s.PHP.CLI != "":
		err = w.alone()
	default:
		return nil, ErrNoPHP
	}
	if err != nil {
		w.Stop()
		return nil, err
	}
	go w.watch()
	w.keepBounds()
	return w, nil
}

func program(name string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	return exec.LookPath("/usr/sbin/" + name)
}

// watch closes gone when one of the programs ends.
func (w *Web) watch() {
	first := make(chan struct{}, len(w.procs))
	for _, p := range w.procs {
		go func() {
			<-p.Done()
			first <- struct{}{}
		}()
	}
	<-first
	close(w.gone)
}

// Gone is closed when the site does not run any more.
func (w *Web) Gone() <-chan struct{} { return w.gone }

// Dial connects to the site's web server.
func (w *Web) Dial(ctx context.Context) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, w.net, w.addr)
}

// At is the network and the address at which the site's web server answers.
func (w *Web) At() (network, addr string) { return w.net, w.addr }

// ErrorLog is the file to which PHP writes the site's errors.
func (w *Web) ErrorLog() string { return w.Spec.errors() }

func (s Spec) errors() string { return filepath.Join(s.Logs, "errors.log") }

// Stop ends the programs.
func (w *Web) Stop() {
	for _, p := range w.procs { // the one in front first
		_ = p.Stop(2 * time.Second) // what does not end is killed
	}
	for _, c := range w.closers {
		c.Close()
	}
	w.closers = nil
}

type config struct {
	Spec
	Account string // to change to; "": we are not root
	BaseDir string
	Seconds int
	Allows  string
}

// baseDir are the folders that PHP keeps the code to, where the system does not: "" in a world of its own, which has
// no others. (To look each file up for it takes a fifth of a page's time.)
func (s Spec) baseDir(more ...string) string {
	if s.Sealed != nil {
		return ""
	}
	return strings.Join(slices.Concat([]string{s.Root}, more, s.Also), ":")
}

func (w *Web) write(name string) (string, error) {
	s := w.Spec
	account := ""
	if os.Getuid() == 0 && s.Sealed == nil {
		account = cmp.Or(s.User, "root")
	}
	c := config{
		Spec:    s,
		Account: account,
		BaseDir: s.baseDir(filepath.Join(s.Run, "tmp"), s.Mail),
		Seconds: int(s.RunTime.Seconds()),
		Allows:  s.allows(),
	}
	to := filepath.Join(s.Run, name)
	f, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fmt.Errorf("writing the configuration: %w", err)
	}
	defer f.Close()
	return to, configs.ExecuteTemplate(f, name, c)
}

func (w *Web) start(name string, env []string, program string, args ...string) error {
	p, err := process.Start(w.Spec.Run, name, env, program, args...)
	if err == nil {
		w.procs = append(w.procs, p)
	}
	return err
}

// startIn starts a program in a world.
func (w *Web) startIn(world wall.World, ways *wall.Ways, name string, env []string, program string,
	args ...string) error {
	l, err := world.Prepare(ways, program, args...)
	if err != nil {
		return err
	}
	p, err := process.StartWorld(l.Files, w.Spec.Run, name, env, l.Program, l.Args...)
	if err == nil {
		w.procs = append(w.procs, p)
	}
	c, berr := l.Begin()
	switch {
	case err != nil:
		return err
	case berr != nil:
		_ = p.Stop(0)
		return fmt.Errorf("%w: %w", berr, p.Ended())
	}
	w.closers = append(w.closers, c)
	return nil
}

// startPHP starts PHP, in a world of its own if the site is a copy.
func (w *Web) startPHP(name string, env []string, program string, args ...string) error {
	if w.Spec.Sealed == nil {
		return w.start(name, env, program, args...)
	}
	world, err := w.world()
	if err != nil {
		return err
	}
	return w.startIn(world, w.ways(), name, env, program, args...)
}

// ready waits until something listens.
func (w *Web) ready(network, addr string) error {
	return w.procs[len(w.procs)-1].Await(10*time.Second, func() bool { return listens(network, addr) })
}

// listens tells whether somebody takes connections: a socket's file is there
// before that.
func listens(network, addr string) bool {
	c, err := net.Dial(network, addr)
	if err == nil {
		c.Close()
	}
	return err == nil
}

func (w *Web) behindNginx(nginx string) error {
	w.Kind, w.net, w.addr = "php-fpm behind nginx", "unix", filepath.Join(w.Spec.Run, "web.sock")
	php := filepath.Join(w.Spec.Run, "php.sock")
	for _, s := range []string{php, w.addr} {
		_ = os.Remove(s) // of an earlier run
	}
	fpm, err := w.write("php-fpm.conf")
	if err != nil {
		return err
	}
	web, err := w.write("nginx.conf")
	if err != nil {
		return err
	}
	args := append(slices.Clone(w.Spec.Load), "--nodaemonize", "--fpm-config", fpm)
	if os.Getuid() == 0 {
		args = append(args, "--allow-to-run-as-root")
	}
	if err := w.Spec.give(); err != nil {
		return fmt.Errorf("giving the copy's files to its account: %w", err)
	}
	// nginx first: it is not waited for, while PHP's world is built.
	if err := w.startNginx(nginx, "-c", web, "-p", w.Spec.Run, "-e",
		filepath.Join(w.Spec.Run, "nginx-errors.log")); err != nil {
		return err
	}
	if err := w.startPHP("php-fpm", nil, w.Spec.PHP.FPM, args...); err != nil {
		return err
	}
	for i, addr := range []string{w.addr, php} {
		p := w.procs[i]
		if err := p.Await(10*time.Second, func() bool { return listens("unix", addr) }); err != nil {
			return err
		}
	}
	return nil
}

// startNginx starts the web server; that of a copy sees the copy's folders and nothing else, so that no link leads
// out of them.
func (w *Web) startNginx(program string, args ...string) error {
	s := w.Spec
	if s.Sealed == nil {
		return w.start("nginx", nil, program, args...)
	}
	world := wall.World{Run: s.Run, Read: []string{s.Root}, Write: []string{s.Run, s.Logs}, Owner: s.owner(),
		Bounds: s.Sealed.Bounds}
	return w.startIn(world, nil, "nginx", nil, program, args...)
}

// alone runs PHP's own server on a free loopback port; that of a copy is in a network of its own, out of which a
// socket is carried.
func (w *Web) alone() error {
	if err := w.Spec.give(); err != nil {
		return fmt.Errorf("giving the copy's files to its account: %w", err)
	}
	workers := []string{fmt.Sprintf("PHP_CLI_SERVER_WORKERS=%d", w.Spec.Workers), "ALIBI_ALLOWS=" + w.Spec.allows()}
	w.Kind = "PHP's own server"
	if w.Spec.Sealed != nil {
		w.net, w.addr = "unix", filepath.Join(w.Spec.Run, "web.sock")
		_ = os.Remove(w.addr) // of an earlier run
		args := append([]string{"-c", carried, "sh", w.Spec.PHP.CLI, filepath.Join(w.Spec.Run, "carrier.php"), w.addr,
			w.Spec.PHP.CLI}, w.Spec.Args(InnerAddr)...)
		if err := w.startPHP("php", workers, "/bin/sh", args...); err != nil {
			return err
		}
		return w.ready(w.net, w.addr)
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.net, w.addr = "tcp", ln.Addr().String()
	ln.Close()
	if err := w.start("php", workers, w.Spec.PHP.CLI, w.Spec.Args(w.addr)...); err != nil {
		return err
	}
	return w.ready(w.net, w.addr)
}

// InnerAddr is where PHP's own server listens in a network of its own, and carried starts it there with what
// carries a socket to it.
const (
	InnerAddr = "127.0.0.1:1024"
	carried   = `php=$1 by=$2 at=$3; shift 3; "$php" -n "$by" "unix://$at" "tcp://` + InnerAddr + `" & exec "$@"`
)

// Args are the arguments with which PHP's own server serves the site.
func (s Spec) Args(addr string) []string {
	args := append(slices.Clone(s.Load), "-S", addr, "-t", s.Root)
	m := s.settings()
	for _, k := range slices.Sorted(maps.Keys(m)) {
		args = append(args, "-d", k+"="+m[k])
	}
	return append(args, filepath.Join(s.Run, "router.php"))
}

// settings are those that php-fpm.conf has too.
func (s Spec) settings() map[string]string {
	m := map[string]string{
		"error_log":         s.errors(),
		"log_errors":        "1",
		"display_errors":    site.Either(s.Show, "1", "0"),
		"sys_temp_dir":      filepath.Join(s.Run, "tmp"),
		"upload_tmp_dir":    filepath.Join(s.Run, "tmp"),
		"session.save_path": filepath.Join(s.Run, "tmp"),
	}
	if dirs := s.baseDir(filepath.Join(s.Run, "tmp"), filepath.Join(s.Run, "router.php"), s.Mail); dirs != "" {
		m["open_basedir"] = dirs
	}
	if s.Mail != "" {
		m["sendmail_path"] = s.Sendmail()
	}
	if s.Memory != "" {
		m["memory_limit"] = s.Memory
	}
	if s.RunTime > 0 {
		m["max_execution_time"] = fmt.Sprint(int(s.RunTime.Seconds()))
	}
	if first := s.First(); first != "" {
		m["auto_prepend_file"] = first
	}
	if s.Upload != "" {
		m["upload_max_filesize"], m["post_max_size"] = s.Upload, s.Upload
	}
	return m
}

// Sendmail is the program that PHP hands mail to in place of sending it.
func (s Spec) Sendmail() string { return filepath.Join(s.Run, "sendmail") }

// Support gives the programs that a site needs in its folder Run: what a web
// server does for it, and what takes its mail.
func (s Spec) Support() (map[string][]byte, error) {
	router, err := files.ReadFile("router.php")
	if err != nil {
		return nil, err
	}
	carrier, err := files.ReadFile("carrier.php")
	dir := "'" + strings.ReplaceAll(s.Mail, "'", `'\''`) + "'"
	return map[string][]byte{
		"router.php":  router,
		"carrier.php": carrier,
		"sendmail":    []byte("#!/bin/sh\numask 077\nexec cat >" + dir + "/sendmail-$(date +%s%N)-$$.eml\n"),
	}, err
}
