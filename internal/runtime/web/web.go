// Package web runs the code of a site on this machine: PHP-FPM behind nginx
// where both are installed, PHP's own server where there is only that. Each
// site has processes, sockets and configuration of its own.
package web

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"text/template"
	"time"

	"alibi/internal/runtime/php"
	"alibi/internal/runtime/process"
)

//go:embed nginx.conf php-fpm.conf router.php
var files embed.FS

var configs = template.Must(template.New("").Funcs(template.FuncMap{"quote": quote}).ParseFS(files, "nginx.conf", "php-fpm.conf"))

// quote writes a word of a configuration in double quotes.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`).Replace(s) + `"`
}

// Spec is how a site is to run.
type Spec struct {
	Run     string   // folder of its sockets, configuration and logs; its path is short
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
	for _, d := range []string{"", "tmp"} {
		if err := os.MkdirAll(filepath.Join(s.Run, d), 0o700); err != nil {
			return nil, fmt.Errorf("making room for the site's sockets: %w", err)
		}
	}
	w := &Web{Spec: s, gone: make(chan struct{})}
	if err := w.sink(); err != nil {
		return nil, err
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
func (w *Web) ErrorLog() string { return filepath.Join(w.Spec.Run, "errors.log") }

// Stop ends the programs.
func (w *Web) Stop() {
	for i := len(w.procs) - 1; i >= 0; i-- {
		_ = w.procs[i].Stop(2 * time.Second) // what does not end is killed
	}
}

type config struct {
	Spec
	Root0   bool // we are root
	BaseDir string
	Seconds int
}

func (w *Web) write(name string) (string, error) {
	s := w.Spec
	c := config{Spec: s, Root0: os.Getuid() == 0, BaseDir: strings.Join(append([]string{s.Root, filepath.Join(s.Run, "tmp"), s.Mail}, s.Also...), ":"), Seconds: int(s.RunTime.Seconds())}
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
	return w.procs[len(w.procs)-1].Await(10*time.Second, func() bool {
		c, err := net.Dial(network, addr)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
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
	args := []string{"--nodaemonize", "--fpm-config", fpm}
	if os.Getuid() == 0 {
		args = append(args, "--allow-to-run-as-root")
	}
	if err := w.start("php-fpm", nil, w.Spec.PHP.FPM, args...); err != nil {
		return err
	}
	if err := w.start("nginx", nil, nginx, "-c", web, "-p", w.Spec.Run, "-e", filepath.Join(w.Spec.Run, "nginx-errors.log")); err != nil {
		return err
	}
	for i, addr := range []string{php, w.addr} {
		p := w.procs[i]
		err := p.Await(10*time.Second, func() bool { _, err := os.Stat(addr); return err == nil })
		if err != nil {
			return err
		}
	}
	return w.ready("unix", w.addr)
}

// alone runs PHP's own server on a free loopback port.
func (w *Web) alone() error {
	router, err := files.ReadFile("router.php")
	if err != nil {
		return err
	}
	file := filepath.Join(w.Spec.Run, "router.php")
	if err := os.WriteFile(file, router, 0o600); err != nil {
		return err
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.Kind, w.net, w.addr = "PHP's own server", "tcp", ln.Addr().String()
	ln.Close()
	args := []string{"-S", w.addr, "-t", w.Spec.Root}
	for k, v := range w.settings() {
		args = append(args, "-d", k+"="+v)
	}
	if err := w.start("php", []string{fmt.Sprintf("PHP_CLI_SERVER_WORKERS=%d", w.Spec.Workers)}, w.Spec.PHP.CLI, append(args, file)...); err != nil {
		return err
	}
	return w.ready("tcp", w.addr)
}

// settings are those that php-fpm.conf has too.
func (w *Web) settings() map[string]string {
	s := w.Spec
	m := map[string]string{"error_log": w.ErrorLog(), "log_errors": "1", "display_errors": map[bool]string{true: "1", false: "0"}[s.Show], "sys_temp_dir": filepath.Join(s.Run, "tmp"), "upload_tmp_dir": filepath.Join(s.Run, "tmp"), "session.save_path": filepath.Join(s.Run, "tmp"),
		"open_basedir": strings.Join(append([]string{s.Root, filepath.Join(s.Run, "tmp"), filepath.Join(s.Run, "router.php"), s.Mail}, s.Also...), ":")}
	if s.Mail != "" {
		m["sendmail_path"] = s.sendmail()
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

// sink writes the program that PHP hands mail to in place of sending it: it
// puts each into a file of a folder.
func (w *Web) sink() error {
	if w.Spec.Mail == "" {
		return nil
	}
	if err := os.MkdirAll(w.Spec.Mail, 0o700); err != nil {
		return fmt.Errorf("making room for the site's mail: %w", err)
	}
	dir := "'" + strings.ReplaceAll(w.Spec.Mail, "'", `'\''`) + "'"
	script := "#!/bin/sh\numask 077\nexec cat >" + dir + "/sendmail-$(date +%s%N)-$$.eml\n"
	return os.WriteFile(w.Spec.sendmail(), []byte(script), 0o700)
}

func (s Spec) sendmail() string { return filepath.Join(s.Run, "sendmail") }

// Sendmail is for the configuration's template.
func (c config) Sendmail() string { return c.sendmail() }
