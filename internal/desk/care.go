package desk

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/gateway"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/pool"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// PlanCaches says what emptying a site's caches will do; object switches the cache
// of objects on or off, if it is not "".
func (d *Hands) PlanCaches(ctx context.Context, id site.ID, object string) (plan.Plan, error) {
	s, err := d.fresh(ctx, id)
	if err != nil {
		return plan.Plan{}, err
	}
	if object != "" && object != "on" && object != "off" {
		return plan.Plan{}, fmt.Errorf("the cache of objects is on or off, not %q", object)
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return plan.Plan{}, err
	}
	c := reset.Change{Caches: true, Words: "empty caches"}
	var goes []plan.Part
	for _, f := range s.Facts.Folders {
		if f.Spare == "cache" {
			c.Remove = append(c.Remove, f.Path)
			goes = append(goes, plan.Part{What: f.Path, Files: int64(f.Files), Bytes: f.Bytes, Note: "goes"})
		}
	}
	rows, err := d.cached(ctx, s)
	if err != nil {
		return plan.Plan{}, err
	}
	if rows > 0 {
		goes = append(goes, plan.Part{What: "kept results in tables", Rows: rows, Note: "go"})
	}
	is, was := stack.CachesOf(st).ObjectCache()
	if object != "" && is != "" {
		from, to := is, was
		if object == "on" {
			from, to = was, is
		}
		text, err := d.FileText(ctx, id, from)
		if err != nil {
			return plan.Plan{}, fmt.Errorf("the cache of objects of %s can't be switched %s: %w", s.Name, object, err)
		}
		c.Remove, c.Edit = append(c.Remove, from), append(c.Edit, reset.Edit{Path: to, Text: text})
		c.Words += ", the cache of objects " + object
		goes = append(goes, plan.Part{What: "the cache of objects", Note: object})
	}
	if len(goes) == 0 {
		return plan.Plan{}, fmt.Errorf("the caches of %s are empty: %w", s.Name, ErrNothingToChange)
	}
	return d.planHandsOn(ctx, s, c, goes)
}

// cached counts the rows in which a site keeps results.
func (d *core) cached(ctx context.Context, s site.Site) (n int64, err error) {
	if s.Database.Engine == "" {
		return 0, nil
	}
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) error {
		for _, t := range snap.Schema().Tables {
			k := stack.CachesOf(st).EmptyCaches(s.Database.Prefix, t)
			if k.Row == nil {
				continue
			}
			gone, err := going(ctx, snap, t, k)
			if err != nil {
				return err
			}
			n += gone
		}
		return nil
	})
	return n, err
}

// going counts the rows of a table that a cleanup takes out one by one.
func going(ctx context.Context, snap tables.Snapshot, t tables.Table, k stack.Cleanup) (n int64, err error) {
	err = snap.Read(ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		if _, stays := k.Row(r); !stays {
			n++
		}
		return ctx.Err()
	})
	return n, err
}

// Timing is how long a page took, in the middle of a few tries.
type Timing struct {
	Kind   string        `json:"kind"`
	Path   string        `json:"path"`
	Status int           `json:"status"`
	Took   time.Duration `json:"took"` // nanoseconds
	Bytes  int           `json:"bytes"`
	Origin time.Duration `json:"origin,omitempty"` // the origin's, nanoseconds; 0: not asked, or no answer
}

// tries is how often a page is asked for; a live site is asked no more than that.
const tries = 3

// Timings asks a copy for a page of every kind that visitors see, and its origin
// for the same ones if live says so.
func (d *Hands) Timings(ctx context.Context, id site.ID, live bool) ([]Timing, error) {
	s, err := d.onCopy(ctx, id, "pages are timed")
	if err != nil {
		return nil, err
	}
	var pages []stack.Page
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		pages, err = st.Pages(ctx, snap, *s.Facts)
		return err
	})
	if err != nil {
		return nil, err
	}
	o, oerr := d.record.Site(ctx, s.Origin)
	if live && oerr != nil {
		return nil, fmt.Errorf("%s has no origin to compare with", s.Name)
	}
	var out []Timing
	for _, p := range pages {
		if p.SignedIn {
			continue
		}
		t := Timing{Kind: p.Kind, Path: p.Path}
		if t.Took, t.Status, t.Bytes, err = middle(ctx, gateway.Client(s), s.Address().String()+p.Path); err != nil {
			return out, fmt.Errorf("asking %s for its %s: %w", s.Name, p.Kind, err)
		}
		if live {
			// no answer is no time
			t.Origin, _, _, _ = middle(ctx, &http.Client{Timeout: 20 * time.Second}, o.Address().String()+p.Path)
		}
		out = append(out, t)
	}
	return out, nil
}

// middle asks for a page a few times.
func middle(ctx context.Context, c *http.Client, address string) (took time.Duration, status, size int, err error) {
	var all []time.Duration
	for range tries {
		began := time.Now()
		if status, size, err = gateway.Fetch(ctx, c, address); err != nil {
			return 0, 0, 0, err
		}
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2], status, size, nil
}

// Shell says how a shell is opened where a site is: the command and its folder.
type Shell struct {
	Command []string          `json:"command"`
	Dir     string            `json:"dir"`
	Env     map[string]string `json:"env,omitempty"`
	Open    string            `json:"open,omitempty"` // why it is not behind the copy's wall, on another host
}

// ShellOf says how to get a shell in a copy's folder, or to run a command there, with its address and its
// database named in the environment: behind the copy's wall, unless a person's own is wanted.
func (d *Hands) ShellOf(ctx context.Context, id site.ID, outside bool, command ...string) (Shell, error) {
	s, err := d.onCopy(ctx, id, "a shell is opened")
	if err != nil {
		return Shell{}, err
	}
	out := Shell{
		Dir: s.Root,
		Env: map[string]string{
			"ALIBI_SITE":     s.Name,
			"ALIBI_URL":      s.Address().String(),
			"ALIBI_ROOT":     s.Root,
			"ALIBI_DATABASE": cmp.Or(s.Database.Name, s.Database.Path),
		},
	}
	if s.Host == d.config.Machine {
		out.Command = []string{"sh", "-c", `exec "${SHELL:-sh}"`}
		if self, err := os.Executable(); err == nil && !outside && d.Walled(s) {
			out.Command = []string{self, "shell", s.Name, "--home", d.home()}
		}
		return out, nil
	}
	h, err := d.record.Host(ctx, s.Host)
	if err != nil {
		return out, err
	}
	if h.Way != "" {
		return out, fmt.Errorf("%s is reached by %s, which opens no shell: open one on a copy of %s", s.Host,
			strings.ToUpper(h.Way), s.Name)
	}
	line := "cd " + quoted(s.Root) + ` && exec "${SHELL:-sh}" -l`
	if len(command) > 0 {
		line = "cd " + quoted(s.Root) + " && exec" + words(command)
	}
	if !outside {
		there, err := d.host(ctx, s.Host)
		if err != nil {
			return out, err
		}
		list, why, err := pool.InsideThere(ctx, there, s, command...)
		if err != nil {
			return out, err
		}
		if out.Open = why; why == "" {
			line = "exec" + words(list)
		}
	}
	// The keys of hosts that were accepted here are known beside a person's own.
	known := fmt.Sprintf(`UserKnownHostsFile=~/.ssh/known_hosts "%s"`, filepath.Join(d.home(), "known_hosts"))
	out.Command = []string{"ssh", "-o", known}
	if len(command) == 0 {
		out.Command = append(out.Command, "-t")
	}
	if h.Port != "" {
		out.Command = append(out.Command, "-p", h.Port)
	}
	if h.Key != "" {
		out.Command = append(out.Command, "-i", h.Key)
	}
	to := h.Addr
	if h.User != "" {
		to = h.User + "@" + to
	}
	out.Command = append(out.Command, "--", to, line)
	return out, nil
}

// words are the words of a command for a shell, each after a space.
func words(command []string) (out string) {
	for _, w := range command {
		out += " " + quoted(w)
	}
	return out
}

// Walled tells whether a shell of a copy on this machine is opened behind the copy's wall.
func (d *Hands) Walled(s site.Site) bool {
	return s.Host == d.config.Machine && d.env.Unsealed(s.Host) == ""
}

// InsideOf gets a program ready that sees and reaches what the code of a copy on this machine does, and nothing else;
// without a command it is a shell with a terminal of its own.
func (d *Hands) InsideOf(ctx context.Context, id site.ID, command ...string) (*web.Inside, error) {
	s, err := d.onCopy(ctx, id, "a shell is opened")
	if err != nil {
		return nil, err
	}
	run := filepath.Join(RunDir(d.home()), "shell-"+strconv.Itoa(os.Getpid()))
	return pool.Inside(ctx, s, d.php(), run, command...)
}

func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Delivery is code that came from a repository.
type Delivery struct {
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	Site   string    `json:"site"`
	What   string    `json:"what"`
	From   string    `json:"from"`
	Ref    string    `json:"ref,omitempty"`
	Digest string    `json:"digest,omitempty"`
}

// Deliveries lists what came to sites from repositories, newest first.
func (d *Fleet) Deliveries(ctx context.Context) ([]Delivery, error) {
	runs, err := d.record.Runs(ctx, 10_000)
	if err != nil {
		return nil, err
	}
	out := []Delivery{}
	for _, r := range runs {
		k := reset.ChangeOf(r.Plan)
		if k == nil || r.State != plan.Done {
			continue
		}
		for _, p := range k.Put {
			if s := p.Source; s.Git() {
				out = append(
					out,
					Delivery{
						At:     r.Began,
						Who:    r.Plan.By,
						Site:   r.Plan.Target.Name,
						What:   string(s.Kind) + " " + s.Slug + " " + s.Version,
						From:   site.Source{From: s.From}.Text(),
						Ref:    s.Ref,
						Digest: s.Digest,
					},
				)
			}
		}
	}
	return out, nil
}

// Security is what a look at a site's safety found, the worst first.
func (d *Hands) Security(ctx context.Context, id site.ID) ([]site.Finding, error) {
	s, err := d.fleet.Inspect(ctx, id)
	if err != nil {
		return nil, err
	}
	if s.Facts.Core == "" {
		return nil, fmt.Errorf("%s has no CMS: Alibi knows nothing of its safety", s.Name)
	}
	var out []site.Finding
	note := func(sev site.Severity, code, text, remedy string) {
		out = append(out, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	if err := d.admins(ctx, s, note); err != nil {
		return nil, err
	}
	parts, err := d.components.Components(ctx, id, true)
	if err != nil {
		return nil, err
	}
	for _, p := range parts.All {
		switch {
		case p.Newest != "" && site.CompareVersions(p.Newest, p.Version) > 0:
			note(site.Warn, "outdated", fmt.Sprintf("%s %s %s: %s waits", p.Kind, p.Slug, p.Version, p.Newest),
				"try it on a copy: "+updating(p))
		case p.State == "off":
			note(site.Note, "unused", fmt.Sprintf("%s %s is off, and its code is there", p.Kind, p.Slug),
				"remove it: alibi uninstall "+s.Name+" "+p.Slug)
		}
	}
	code, err := d.codeAmongUploads(ctx, s)
	if err != nil {
		return nil, err
	}
	for _, f := range code {
		note(site.Warn, "code", f+" is code among uploads", "nobody uploads code: look at it, alibi files "+s.Name+" "+
			f+" --text")
	}
	d.policy(s, note)
	for _, n := range parts.Notes {
		note(site.Note, "catalogue", n, "")
	}
	slices.SortStableFunc(out, func(a, b site.Finding) int { return int(b.Severity) - int(a.Severity) })
	return out, nil
}

// updating is the command that brings a component of a copy to its newest version.
func updating(p Part) string {
	if p.Kind == site.Core {
		return "alibi update COPY --core newest"
	}
	return "alibi update COPY " + p.Slug
}

// admins looks at who may do everything.
func (d *core) admins(ctx context.Context, s site.Site, note func(site.Severity, string, string, string)) error {
	list, err := d.hands.Accounts(ctx, s.ID)
	if err != nil {
		return err
	}
	var names []string
	for _, a := range list {
		if slices.Contains(a.Roles, "administrator") {
			names = append(names, a.Login)
		}
	}
	sev := site.Note
	if len(names) > 3 {
		sev = site.Warn
	}
	note(sev, "admins", fmt.Sprintf("%d of %d accounts may do everything: %s", len(names), len(list),
		strings.Join(names[:min(8, len(names))], ", ")), "alibi accounts "+s.Name)
	if slices.Contains(names, "admin") {
		note(site.Note, "admin", "one of them is called admin, which is what others try first", "")
	}
	return nil
}

// policy says how a copy is updated and what it keeps from the outside.
func (d *core) policy(s site.Site, note func(site.Severity, string, string, string)) {
	if s.Role != site.Copy {
		return
	}
	note(site.Note, "updates", "updates by itself: "+cmp.Or(s.Settings.Updates, "as its origin's"),
		"a pin sheet can say: settings.updates")
	if s.Runtime.Show {
		note(site.Warn, "errors", "errors are shown on its pages", "alibi runtime "+s.Name+" --hide-errors")
	}
	var untried []string
	for _, r := range site.QuietRules {
		switch {
		case !slices.Contains(s.Quiet, r):
			note(site.Warn, "quiet", "the quiet rule for "+string(r)+" is off", "refresh it with the rule on")
		case !slices.Contains(s.Proof.Held, r):
			untried = append(untried, string(r))
		}
	}
	if len(untried) > 0 {
		note(site.Note, "quiet", "quiet rules that were not tried since the copy changed: "+strings.Join(untried, ", "),
			"alibi evidence "+s.Name)
	}
	if !s.Scrubbed && s.Origin != "" {
		note(site.Note, "people", "it holds its origin's people", "alibi scrub "+s.Name)
	}
}

// codeAmongUploads finds PHP where only media belong.
func (d *core) codeAmongUploads(ctx context.Context, s site.Site) (out []string, err error) {
	p, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer p.Root.Close()
	var walk func(dir string, depth int) error
	walk = func(dir string, depth int) error {
		list, err := p.Root.ReadDir(dir)
		if err != nil {
			return nil // not there, or not ours to read
		}
		for _, fi := range list {
			name := path.Join(dir, fi.Name())
			switch ext := strings.ToLower(path.Ext(name)); {
			case ctx.Err() != nil:
				return ctx.Err()
			case fi.IsDir() && depth < 8:
				if err := walk(name, depth+1); err != nil {
					return err
				}
			// an empty index.php is a habit
			case slices.Contains([]string{".php", ".phtml", ".phar"}, ext) && fi.Size() > 64 && len(out) < 20:
				out = append(out, name)
			}
		}
		return nil
	}
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	if dir := stack.LayoutOf(st).Uploads; dir != "" {
		err = walk(dir, 0)
	}
	return out, err
}
