package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"encoding/json"

	"alibi/internal/op"
	"alibi/internal/stack"
)

// Answers are how a copy answers: a status by page.
type Answers struct {
	Status map[string]int `json:"status"`
}

// How long a cell has for a page and for a command.
const (
	pageTime    = 30 * time.Second
	commandTime = 5 * time.Minute
	wakeTime    = 5 * time.Minute
)

// try makes a cell, gives it its verdict, and removes it. An error is one of
// Alibi's own work; what the cell does wrong is its verdict.
func (b *bench) try(
	ctx context.Context,
	v Variant,
	check Check,
	reference *Answers,
	c *Cell,
	tell func(),
) (*Answers, error) {
	began := time.Now()
	at := func(step string) {
		c.State, c.Step = Running, step
		tell()
	}
	at("making it")
	f, err := b.make(ctx, v)
	if err != nil {
		return nil, err
	}
	answers := &Answers{Status: map[string]int{}}
	err = f.judge(ctx, check, reference, answers, c, at)
	if derr := f.drop(context.WithoutCancel(ctx)); err == nil {
		err = derr
	}
	if err != nil {
		return nil, err
	}
	n, err := b.written()
	if err != nil {
		return nil, err
	}
	if n > 0 && c.State == Fails {
		c.Reason += fmt.Sprintf(" (%d shared files were written to in place, and repaired)", n)
	}
	c.Step, c.Took, c.Bytes = "", time.Since(began), f.bytes+b.site.Facts.TableBytes
	return answers, ctx.Err()
}

// judge runs the cell's code and says what becomes of it.
func (f *fork) judge(ctx context.Context, check Check, reference, answers *Answers, c *Cell, at func(string)) error {
	fail := func(format string, a ...any) { c.State, c.Reason = Fails, fmt.Sprintf(format, a...) }
	at("starting")
	if err := f.start(ctx); err != nil {
		fail("%v", err)
		return nil
	}
	why := ""
	if f.v.Core != nil || len(f.v.Set.Switch.On) > 0 {
		at("bringing its data in line")
		if _, err := f.wake(ctx); err != nil {
			why = err.Error()
		}
	}
	if why == "" {
		at("asking for pages")
		why = f.ask(ctx, check, reference, answers, c)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if why == "" && check.Command != "" {
		at("running the command")
		why = f.command(ctx, check.Command)
	}
	log, err := os.ReadFile(filepath.Join(f.dir, "logs", op.ErrorLog))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	grave := op.Errors(string(log), f.site.Root)
	c.Warnings, c.Said = warnings(string(log), f.site.Root)
	switch {
	case len(grave) > 0 && (why != "" || !check.Only):
		fail("%s", grave[0])
		if why != "" {
			c.Reason = why + ": " + grave[0]
		}
	case why != "":
		fail("%s", why)
	case c.Absent > 0 && c.Absent == c.Pages && check.Command == "":
		c.State, c.Reason = Silent, "none of the pages is there without what was left out"
	case c.Absent > 0:
		c.State, c.Reason = Passes, fmt.Sprintf("%d of its %d pages are not there without what was left out", c.Absent,
			c.Pages)
	default:
		c.State, c.Reason = Passes, ""
	}
	return ctx.Err()
}

// mostSaid is how many warnings of a log are kept.
const mostSaid = 5

// warning is a line of a log that ends nothing.
var warning = regexp.MustCompile(`PHP (?:Warning|Deprecated):\s+.*`)

// warnings counts them in a log, and gives the first ones, each once, with paths below the site's root.
func warnings(log, root string) (n int, said []string) {
	for _, line := range warning.FindAllString(log, -1) {
		n++
		line = strings.ReplaceAll(strings.TrimPrefix(line, "PHP "), root+"/", "")
		if len(said) < mostSaid && !slices.Contains(said, line) {
			said = append(said, line)
		}
	}
	return n, said
}

// client asks the cell, by the address that the copy has; it stays on it.
func (f *fork) client(timeout time.Duration) *http.Client {
	jar, _ := cookiejar.New(nil) // no options: never fails
	own := f.b.site.Address().Host
	return &http.Client{
		Timeout:   timeout,
		Jar:       jar,
		Transport: f.transport(),
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 5 {
				return errors.New("it leads in circles")
			}
			if h := r.URL.Hostname(); h != own && !strings.HasSuffix(h, "."+own) {
				return http.ErrUseLastResponse
			}
			return nil
		},
	}
}

func (f *fork) transport() *http.Transport {
	return &http.Transport{
		DisableKeepAlives: true,
		DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return f.web.Dial(ctx) },
	}
}

// get asks for one address; word is a header with a signed word.
func (f *fork) get(ctx context.Context, c *http.Client, address string, header http.Header) (int, string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, "", err
	}
	req.Header = header.Clone()
	if req.Header == nil {
		req.Header = http.Header{}
	}
	req.Header.Set(op.PortHeader, f.b.site.Address().Port)
	resp, err := c.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	return resp.StatusCode, string(text), err
}

func (f *fork) word(header, purpose, text string) http.Header {
	return http.Header{header: {op.Word(f.secret(), purpose, text, f.b.env.Now().Add(time.Hour))}}
}

// wake has the cell's code do what belongs to its components.
func (f *fork) wake(ctx context.Context) (op.Woken, error) {
	text, err := json.Marshal(op.Ask{On: f.v.Set.Switch.On, Update: f.v.Core != nil})
	if err != nil {
		return op.Woken{}, err
	}
	status, page, err := f.get(ctx, f.client(wakeTime), f.b.site.Address().String()+"/",
		f.word(op.WakeHeader, "wake", string(text)))
	if err != nil {
		return op.Woken{}, plainly(err)
	}
	return op.ParseWoken(status, page)
}

// plainly takes the method and the address out of an error.
func plainly(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// blank is what of a page nobody sees.
var blank = regexp.MustCompile(`(?s)<[^>]*>`)

// pages are those that a check asks for.
func (f *fork) pages(check Check) (list []stack.Page) {
	if !check.Only {
		list = append(list, f.b.pages...)
	}
	for _, p := range check.Pages {
		list = append(list, stack.Page{Kind: "page " + p, Path: "/" + strings.TrimPrefix(p, "/")})
	}
	if len(list) == 0 {
		list = []stack.Page{{Kind: "first page", Path: "/"}}
	}
	return list
}

// ask asks for the pages; it gives the first reason for which the cell fails.
func (f *fork) ask(ctx context.Context, check Check, reference, answers *Answers, c *Cell) (why string) {
	missing := map[string]bool{}
	for _, t := range check.Texts {
		missing[t] = true
	}
	visitor, admin := f.client(pageTime), f.client(pageTime)
	base := f.b.site.Address().String()
	note := func(format string, a ...any) {
		if why == "" {
			why = fmt.Sprintf(format, a...)
		}
	}
	signed := false
	for _, p := range f.pages(check) {
		client := visitor
		if p.SignedIn {
			if f.b.admin == "" {
				continue
			}
			if client = admin; !signed {
				signed = true
				once := *admin // the word must not go along to where it leads
				once.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
				if _, _, err := f.get(ctx, &once, base+"/", f.word(op.EnterHeader, "enter", f.b.admin)); err != nil {
					note("signing in: %v", plainly(err))
				}
			}
		}
		status, text, err := f.get(ctx, client, base+p.Path, nil)
		if ctx.Err() != nil {
			return ""
		}
		c.Pages++
		answers.Status[p.Path] = status
		if err != nil {
			note("its %s does not answer: %v", p.Kind, plainly(err))
			continue
		}
		if f.v.absent(p, status) {
			c.Absent++
			continue
		}
		if bad := wrong(p, status, text, reference); bad != "" {
			note("its %s %s", p.Kind, bad)
		}
		for t := range missing {
			if strings.Contains(text, t) || strings.Contains(blank.ReplaceAllString(text, ""), t) {
				delete(missing, t)
			}
		}
		for _, t := range check.Without {
			if strings.Contains(text, t) {
				note("%q stands on its %s", t, p.Kind)
			}
		}
	}
	for _, t := range check.Texts {
		if missing[t] && c.Absent < c.Pages {
			note("%q stands on none of its pages", t)
		}
	}
	return why
}

// absent tells whether a page is not there because what makes its kind was left out.
func (v Variant) absent(p stack.Page, status int) bool {
	if v.Known == nil || status != http.StatusNotFound || p.Missing {
		return false
	}
	was, asked := v.Known.Status[p.Path]
	return asked && was != http.StatusNotFound
}

// wrong says what is wrong with an answer, against what the copy itself answers.
func wrong(p stack.Page, status int, text string, reference *Answers) string {
	was := 0
	if reference != nil {
		was = reference.Status[p.Path]
	}
	switch {
	case status >= http.StatusInternalServerError:
		return fmt.Sprintf("answers %d", status)
	case p.Missing:
		return ""
	case status >= http.StatusBadRequest && was < http.StatusBadRequest:
		return fmt.Sprintf("answers %d", status)
	case status == http.StatusOK && strings.TrimSpace(text) == "":
		return "is empty"
	}
	return ""
}

// command runs a person's own check.
func (f *fork) command(ctx context.Context, line string) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err.Error()
	}
	a := f.b.site.Address()
	proxy := &httputil.ReverseProxy{Transport: f.transport(), Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host, r.Out.Host = "http", "cell", net.JoinHostPort(a.Host, a.Port)
		for name := range r.Out.Header {
			if strings.HasPrefix(name, "Alibi-") {
				r.Out.Header.Del(name)
			}
		}
		r.Out.Header.Set(op.PortHeader, a.Port)
	}}
	srv := &http.Server{Handler: proxy, ReadHeaderTimeout: pageTime}
	go func() { _ = srv.Serve(ln) }()
	defer srv.Close()
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	cmd.Dir, cmd.WaitDelay = f.site.Root, time.Second
	cmd.Env = append(os.Environ(), "ALIBI_URL=http://"+ln.Addr().String(), "ALIBI_ROOT="+f.site.Root)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	if last := lines[len(lines)-1]; last != "" {
		return fmt.Sprintf("the command says: %s", last[:min(len(last), 200)])
	}
	return fmt.Sprintf("the command: %v", err)
}
