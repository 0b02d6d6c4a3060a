package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/catalogue"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

func copyOf(core, php string) site.Site {
	return site.Site{
		ID:       "c1",
		Name:     "winter",
		Role:     site.Copy,
		State:    site.Ready,
		Host:     "desk",
		Database: site.Database{Engine: "mysql", Name: "alibi_winter"},
		Facts: &site.Facts{
			Core:       core,
			PHP:        php,
			Bytes:      60 << 20,
			TableBytes: 2 << 20,
			Plugins: []site.Component{
				{Slug: "tide-table", Version: "2.4.1", State: "active"},
				{Slug: "old-slider", State: "off"},
				{Slug: "ticket-desk", State: "network"},
			},
			Themes: []site.Component{{Slug: "harbour", State: "active"}},
		},
	}
}

func core(v string) catalogue.Package {
	return catalogue.Package{Source: site.Source{Kind: site.Core, Version: v}}
}

func TestAGridHasEveryVariantOnce(t *testing.T) {
	s := copyOf("6.1.9", "8.2.29")
	assert.Equal(t, []Variant{{PHP: "8.2"}}, Variants(Choices{}, s), "nothing named is the copy as it is")
	s.Runtime.PHP = "7.4"
	assert.Equal(t, "7.4", Variants(Choices{}, s)[0].PHP, "what the copy runs on, not what its origin does")
	list := Variants(
		Choices{
			Cores:    []catalogue.Package{core("6.1.9"), core("6.8.12")},
			Runtimes: []string{"7.4", "8.2", "8.4"},
			Sets:     []Set{{Name: "now"}, {Name: "new"}},
		},
		s,
	)
	require.Len(t, list, 12)
	seen := map[string]bool{}
	for _, v := range list {
		c := v.cell(s)
		assert.False(t, seen[c.Name], c.Name)
		seen[c.Name] = true
		assert.Equal(t, Waiting, c.State)
		assert.Equal(t, c.Core == "6.1.9", v.Core == nil, "its own core is not put anew")
	}
	assert.Equal(t, "now", list[5].Set.Name)
	assert.Equal(t, "new", list[6].Set.Name, "a set at a time")
}

func TestWhatAPlanOfATrialSays(t *testing.T) {
	in := Input{
		Site:    copyOf("6.1.9", "8.2.29"),
		Local:   "desk",
		PHP:     []string{"8.2", "8.4"},
		Free:    10 << 30,
		Now:     time.Now(),
		By:      "runa",
		Choices: Choices{Runtimes: []string{"8.2", "8.4"}, AtOnce: 2},
	}
	p := Plan(in)
	assert.False(t, p.Blocked(), p.Findings)
	assert.Equal(t, "2 variants", p.Words)
	assert.Len(t, p.Goes, 2)
	assert.Less(t, p.Estimate.Low, p.Estimate.High)
	assert.Contains(t, p.Writes, "nothing on winter")
	assert.Nil(t, p.Target.Facts, "a run does not carry what was inspected")
	var names []string
	for _, s := range p.Steps {
		names = append(names, s.Name)
	}
	assert.Equal(t, []string{"reserve", "share", "reference", "cells", "clear"}, names)

	for code, change := range map[string]func(*Input){
		"live":      func(in *Input) { in.Site.Role = site.Live },
		"busy":      func(in *Input) { in.Site.Run = "r7" },
		"state":     func(in *Input) { in.Site.State = site.Failed },
		"elsewhere": func(in *Input) { in.Site.Host = "pier" },
		"runs":      func(in *Input) { in.Site.Database.Engine = "sqlite" },
		"php":       func(in *Input) { in.Choices.Runtimes = []string{"5.3"} },
		"room":      func(in *Input) { in.Free = 30 << 20 },
	} {
		x := in
		x.Site = copyOf("6.1.9", "8.2.29")
		change(&x)
		p := Plan(x)
		require.True(t, p.Blocked(), code)
		f := p.Findings[0]
		assert.Equal(t, code, f.Code)
		assert.Equal(t, site.Block, f.Severity, "what blocks stands first")
		assert.NotEmpty(t, f.Remedy, code)
	}
	in.Choices = Choices{Search: &Search{}}
	p = Plan(in)
	assert.Equal(t, "search", p.Steps[3].Name)
	assert.Empty(t, p.Goes)
	assert.Equal(t, plan.Trial, p.Kind)
}

func TestWhatIsWrongWithAnAnswer(t *testing.T) {
	page, missing := stack.Page{
		Kind: "first page",
		Path: "/",
	}, stack.Page{
		Kind:    "missing page",
		Path:    "/no",
		Missing: true,
	}
	was := &Answers{Status: map[string]int{"/": 200, "/gone": 404}}
	for _, c := range []struct {
		page   stack.Page
		status int
		text   string
		ref    *Answers
		want   string
	}{
		{page, 200, "hello", was, ""}, {page, 200, " \n", was, "is empty"}, {page, 500, "hello", was, "answers 500"},
		{page, 404, "x", was, "answers 404"}, {page, 404, "x", nil, "answers 404"},
		{page, 302, "", was, ""}, {missing, 404, "x", was, ""}, {missing, 200, "x", was, ""},
		{missing, 503, "x", was, "answers 503"},
		{stack.Page{Path: "/gone"}, 404, "x", was, ""}, {stack.Page{Path: "/gone"}, 500, "x", was, "answers 500"},
	} {
		assert.Equal(t, c.want, wrong(c.page, c.status, c.text, c.ref), "%v %d", c.page, c.status)
	}
}

func TestAPageOfAKindThatWasLeftOutMeasuresNothing(t *testing.T) {
	v := Variant{Known: &Answers{Status: map[string]int{"/boats/gannet/": 500, "/gone/": 404}}}
	assert.True(t, v.absent(stack.Page{Path: "/boats/gannet/"}, 404),
		"it fails on the copy, and is not there without the plugin that makes it")
	assert.False(t, v.absent(stack.Page{Path: "/boats/gannet/"}, 500))
	assert.False(t, v.absent(stack.Page{Path: "/gone/"}, 404), "it is not there on the copy either")
	assert.False(t, v.absent(stack.Page{Path: "/never-asked/"}, 404))
	assert.False(t, Variant{}.absent(stack.Page{Path: "/boats/gannet/"}, 404), "a trial of versions measures all")
	f := Found{Plugins: []string{"a", "b"}, Silent: true}
	assert.Contains(t, f.sentence([]string{"8.2"}, map[string]bool{"8.2": true}, copyOf("6.1.9", "8.2.29")),
		"not all of this need be the cause")
}

func TestTheCauseIsPutIntoASentence(t *testing.T) {
	s := copyOf("6.1.9", "8.2.29")
	all := []string{"7.4", "8.2", "8.4"}
	every := map[string]bool{"7.4": true, "8.2": true, "8.4": true}
	late := map[string]bool{"8.2": true, "8.4": true}
	for want, c := range map[string]struct {
		f     Found
		fails map[string]bool
	}{
		"the plugin tide-table 2.4.1 makes the check fail: " +
			"answers 500": {Found{Plugins: []string{"tide-table"}, Reason: "answers 500"}, every},
		"the plugin tide-table 2.4.1 makes the check fail, from " +
			"version 2.4 on": {Found{Plugins: []string{"tide-table"}, Version: "2.4"}, every},
		"the plugins a and b together, neither alone, make " +
			"the check fail": {Found{Plugins: []string{"a", "b"}}, every},
		"the plugins a, b and c together make the check fail, from PHP 8.2 on; it " +
			"passes under 7.4": {Found{Plugins: []string{"a", "b", "c"}, PHP: "8.2"}, late},
		"the plugins a and b together make the check fail; without b some of the pages are not there, so that the " +
			"others alone say nothing of these": {Found{Plugins: []string{"a", "b"}, Makers: []string{"b"}}, every},
		"the theme harbour makes the check fail; it passes under " +
			"PHP 7.4, 8.4": {Found{Theme: "harbour"}, map[string]bool{"8.2": true}},
		"PHP 8.2, with no plugin and a theme of the core's own, makes " +
			"the check fail": {Found{PHP: "8.2"}, late},
		"neither a plugin nor the theme, but the core, its data or the check itself, makes the check fail: \"x\" " +
			"stands on none of it": {Found{Reason: `"x" stands on none of it`}, every},
	} {
		assert.Equal(t, want, c.f.sentence(all, c.fails, s))
	}
}

// answering is a web server at an address.
type answering struct{ addr string }

func (a answering) Dial(ctx context.Context) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, "tcp", a.addr)
}

func (answering) Stop() {}

// cellAt is a cell that a server answers for.
func cellAt(t *testing.T, h http.HandlerFunc) *fork {
	t.Helper()
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	return &fork{
		b: &bench{
			site:  site.Site{Addresses: []site.Address{{Scheme: "http", Host: "winter.localhost", Port: "7070"}}},
			pages: []stack.Page{{Kind: "first page", Path: "/"}, {Kind: "feed", Path: "/feed"}},
		},
		web: answering{srv.Listener.Addr().String()},
	}
}

func TestPagesAreAskedFor(t *testing.T) {
	f := cellAt(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, "High <b>water</b> at the quay")
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/away":
			http.Redirect(w, r, "http://elsewhere.example/", http.StatusFound)
		case "/feed":
			fmt.Fprint(w, "<rss/>")
		default:
			w.WriteHeader(http.StatusInternalServerError)
		}
	})
	ask := func(c Check) (string, Cell) {
		var cell Cell
		why := f.ask(context.Background(), c, nil, &Answers{Status: map[string]int{}}, &cell)
		return why, cell
	}
	why, c := ask(Check{Texts: []string{"High water", "<rss/>"}})
	assert.Empty(t, why, "a text is found across marks")
	assert.Equal(t, 2, c.Pages)
	why, _ = ask(Check{Texts: []string{"Low water"}})
	assert.Equal(t, `"Low water" stands on none of its pages`, why)
	why, _ = ask(Check{Without: []string{"the quay"}})
	assert.Equal(t, `"the quay" stands on its first page`, why)
	why, c = ask(Check{Only: true, Pages: []string{"broken"}})
	assert.Equal(t, "its page broken answers 500", why)
	assert.Equal(t, 1, c.Pages)
	why, _ = ask(Check{Only: true, Pages: []string{"/round"}})
	assert.Equal(t, "its page /round does not answer: it leads in circles", why)
	why, _ = ask(Check{Only: true, Pages: []string{"away"}})
	assert.Empty(t, why, "what leads away is not followed")
	_, c = ask(Check{Only: true})
	assert.Equal(t, 1, c.Pages, "the first page, if nothing is named")
}

func TestAPersonsOwnCommandIsRun(t *testing.T) {
	f := cellAt(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Alibi-Enter"), "no signed word comes in from outside")
		_, _ = io.WriteString(w, r.Host)
	})
	f.site.Root = t.TempDir()
	assert.Empty(t, f.command(context.Background(),
		`test "$(curl -s -H 'Alibi-Enter: x' "$ALIBI_URL/")" = winter.localhost:7070 && test -d "$ALIBI_ROOT"`))
	assert.Equal(t, "the command says: no boats", f.command(context.Background(),
		`echo first; echo "no boats" >&2; exit 3`))
	assert.Equal(t, "the command: exit status 4", f.command(context.Background(), "exit 4"))
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	assert.Contains(t, f.command(ctx, "sleep 20"), "the command: ")
}

func TestAddressesAreLeftOutOfReasons(t *testing.T) {
	inner := errors.New("connection refused")
	assert.Equal(t, inner, plainly(&url.Error{Op: "Get", URL: "http://x/?key=secret", Err: inner}))
	assert.Equal(t, inner, plainly(inner))
	assert.Equal(t, ": it rains", because(Cell{Reason: "it rains"}))
	assert.Empty(t, because(Cell{}))
}

func TestWarningsCanBeRead(t *testing.T) {
	log := "[1] PHP Warning:  Undefined variable $x in /c/site/wp-content/a.php on line 3\n[2] PHP Deprecated:  old " +
		"in /c/site/b.php on line 1\n" +
		"[3] PHP Warning:  Undefined variable $x in /c/site/wp-content/a.php on line 3\n[4] PHP Fatal error:  no\n"
	n, said := warnings(log, "/c/site")
	assert.Equal(t, 3, n)
	assert.Equal(
		t,
		[]string{
			"Warning:  Undefined variable $x in wp-content/a.php on line 3",
			"Deprecated:  old in b.php on line 1",
		},
		said,
	)
}
