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
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"text/template"
	"time"

	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
	"alibi/internal/site"
)

//go:embed nginx.conf php-fpm.conf router.php
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

// ErrorLog is the file to which PHP writes the site's errors.
func (w *Web) ErrorLog() string { return w.Spec.errors() }

func (s Spec) errors() string { return filepath.Join(s.Logs, "errors.log") }

// Stop ends the programs.
func (w *Web) Stop() {
	for i := len(w.procs) - 1; i >= 0; i-- {
		_ = w.procs[i].Stop(2 * time.Second) // what does not end is killed
	}
}

type config struct {
	Spec
	Account string // to change to; "": we are not root
	BaseDir string
	Seconds int
}

func (w *Web) write(name string) (string, error) {
	s := w.Spec
	account := ""
	if os.Getuid() == 0 {
		account = cmp.Or(s.User, "root")
	}
	c := config{
		Spec:    s,
		Account: account,
		BaseDir: strings.Join(append([]string{s.Root, filepath.Join(s.Run, "tmp"), s.Mail}, s.Also...), ":"),
		Seconds: int(s.RunTime.Seconds()),
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
	if err := w.start("php-fpm", nil, w.Spec.PHP.FPM, args...); err != nil {
		return err
	}
	if err := w.start("nginx", nil, nginx, "-c", web, "-p", w.Spec.Run, "-e",
		filepath.Join(w.Spec.Run, "nginx-errors.log")); err != nil {
		return err
	}
	for i, addr := range []string{php, w.addr} {
		p := w.procs[i]
		if err := p.Await(10*time.Second, func() bool { return listens("unix", addr) }); err != nil {
			return err
		}
	}
	return nil
}

// alone runs PHP's own server on a free loopback port.
func (w *Web) alone() error {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.Kind, w.net, w.addr = "PHP's own server", "tcp", ln.Addr().String()
	ln.Close()
	if err := w.start("php", []string{fmt.Sprintf("PHP_CLI_SERVER_WORKERS=%d", w.Spec.Workers)}, w.Spec.PHP.CLI,
		w.Spec.Args(w.addr)...); err != nil {
		return err
	}
	return w.ready("tcp", w.addr)
}

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
		"open_basedir": strings.Join(append([]string{s.Root, filepath.Join(s.Run, "tmp"),
			filepath.Join(s.Run, "router.php"), s.Mail}, s.Also...), ":"),
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
	dir := "'" + strings.ReplaceAll(s.Mail, "'", `'\''`) + "'"
	return map[string][]byte{
		"router.php": router,
		"sendmail":   []byte("#!/bin/sh\numask 077\nexec cat >" + dir + "/sendmail-$(date +%s%N)-$$.eml\n"),
	}, err
}
