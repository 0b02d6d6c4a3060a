package move

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// surveying is a destination that is held against what will arrive there.
type surveying struct {
	env         *op.Env
	m           plan.Move
	here, there site.Site
	out         plan.Survey
}

// Survey sees what the destination lacks of what will arrive there. Both are only read.
func Survey(ctx context.Context, env *op.Env, m plan.Move) (plan.Survey, error) {
	v := &surveying{env: env, m: m, out: plan.Survey{At: env.Now()}}
	var err error
	if v.here, err = env.Record.Site(ctx, m.Site); err != nil {
		return v.out, err
	}
	if v.there, err = env.Record.Site(ctx, m.Place); err != nil {
		return v.out, err
	}
	if st, err := env.Stack(v.here.Stack); err == nil && len(stack.TrimsOf(st)) > 0 && len(m.Passes) == 0 {
		v.note(site.Note, "trim", "what the site can do without need not be carried: versions, the bin, spam and the like",
			"see what that is, and take it out before: alibi trim "+v.here.Name)
	}
	for _, look := range []func(context.Context) error{v.files, v.room, v.php, v.database} {
		if err := look(ctx); err != nil {
			return v.out, err
		}
	}
	slices.SortStableFunc(v.out.Findings, func(a, b site.Finding) int { return int(b.Severity) - int(a.Severity) })
	return v.out, nil
}

func (v *surveying) note(sev site.Severity, code, text, remedy string) {
	v.out.Findings = append(v.out.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
}

// crowded is from how many files on a folder may be slow, or more than some hosts allow.
const crowded = 20_000

// files looks at what will arrive.
func (v *surveying) files(ctx context.Context) error {
	p, err := v.env.Place(ctx, v.here.Host, v.here.Root)
	if err != nil {
		return err
	}
	defer p.Root.Close()
	list, err := tree.Scan(ctx, p.Root, filter(v.here))
	if err != nil {
		return fmt.Errorf("listing the site's files: %w", err)
	}
	v.out.Files, v.out.Bytes = list.Totals()
	if v.here.Facts != nil {
		v.out.Bytes += v.here.Facts.TableBytes
	}
	kinds := map[string][]string{}
	for _, pr := range list.Problems {
		kinds[pr.Kind] = append(kinds[pr.Kind], pr.Path)
	}
	for _, k := range slices.Sorted(maps.Keys(kinds)) {
		names := kinds[k]
		what := site.Plural(int64(len(names)), "entry", "entries") + " will not be brought, the first: " + names[0]
		switch k {
		case "unreadable":
			v.note(site.Block, k, what+": our account on "+v.here.Host+" may not read it",
				"reach the host as an account that may, or remove it")
		case "link-out":
			v.note(site.Warn, k, what+": it is a link that leads out of the site", "make what it leads to at the new place")
		default:
			v.note(site.Warn, k, what, "see whether the site needs it")
		}
	}
	in := map[string]int{}
	for _, e := range list.Entries {
		in[path.Dir(e.Path)]++
	}
	for _, dir := range slices.Sorted(maps.Keys(in)) {
		if in[dir] > crowded {
			v.note(site.Warn, "crowded", fmt.Sprintf("the folder %s has %s entries", dir, site.Number(in[dir])),
				"ask the new host how many it allows in one folder")
		}
	}
	return nil
}

// room looks at the folder and the disk.
func (v *surveying) room(ctx context.Context) error {
	h, err := v.env.Host(ctx, v.there.Host)
	if err != nil {
		return err
	}
	root, err := h.Open(ctx, v.there.Root)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return fmt.Errorf("looking at %s on %s: %w", v.there.Root, v.there.Host, err)
	default:
		defer root.Close()
		in, err := root.ReadDir(".")
		if err != nil {
			return err
		}
		if len(in) > 0 && len(v.m.Passes) == 0 {
			v.note(site.Warn, "over", fmt.Sprintf("%s on %s is not empty: %s will be what the live site has, or go",
				v.there.Root, v.there.Host, site.Plural(int64(len(in)), "entry", "entries")),
				"a restore point of it is taken first")
		}
	}
	dir := above(ctx, h, v.there.Root)
	if free, err := h.Free(ctx, dir); err != nil {
		return err
	} else if free > 0 && free < v.out.Bytes+v.out.Bytes/10 && len(v.m.Passes) == 0 {
		v.note(site.Block, "disk", fmt.Sprintf("%s will arrive, and %s are free on %s", site.Size(v.out.Bytes),
			site.Size(free), v.there.Host), "make room there, or leave something out of the site")
	}
	out, err := h.Command(ctx, "df", "-Pi", dir)
	if f := strings.Fields(string(out)); err == nil && len(f) > 6 {
		free, err := strconv.Atoi(f[len(f)-3])
		if err == nil && free > 0 && free < v.out.Files && len(v.m.Passes) == 0 {
			v.note(site.Block, "inodes", fmt.Sprintf("%s files will arrive, and the disk of %s takes %s more",
				site.Number(v.out.Files), v.there.Host, site.Number(free)), "ask for more inodes there")
		}
	}
	return ctx.Err()
}

// above is the nearest folder above a path that is there.
func above(ctx context.Context, h host.Host, dir string) string {
	for ; dir != "/"; dir = path.Dir(dir) {
		if r, err := h.Open(ctx, dir); err == nil {
			r.Close()
			break
		}
	}
	return dir
}

// phpState is what PHP says of itself on a host.
type phpState struct {
	Version    string   `json:"v"`
	Extensions []string `json:"e"`
	Memory     string   `json:"m"`
	Upload     string   `json:"u"`
	Post       string   `json:"p"`
	Time       int      `json:"t"`
}

const askPHP = `echo json_encode(array('v'=>PHP_VERSION,'e'=>array_map('strtolower',get_loaded_extensions()),` +
	`'m'=>ini_get('memory_limit'),'u'=>ini_get('upload_max_filesize'),'p'=>ini_get('post_max_size'),` +
	`'t'=>(int)ini_get('max_execution_time')));`

func (v *surveying) ask(ctx context.Context, name string) (*phpState, error) {
	h, err := v.env.Host(ctx, name)
	if err != nil {
		return nil, err
	}
	out, err := h.Command(ctx, "php", "-r", askPHP)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	var s phpState
	if err != nil || json.Unmarshal(out, &s) != nil {
		return nil, nil
	}
	return &s, nil
}

// php compares what both hosts run, as far as their PHP for commands says so.
func (v *surveying) php(ctx context.Context) error {
	is, err := v.ask(ctx, v.there.Host)
	if err != nil {
		return err
	}
	if is == nil {
		v.note(site.Warn, "php", "which PHP "+v.there.Host+" has could not be asked",
			"see that it has what the site runs on: "+site.Either(v.here.Facts != nil, "PHP "+v.here.Facts.PHP, "its PHP"))
		return nil
	}
	was, err := v.ask(ctx, v.here.Host)
	if err != nil {
		return err
	}
	if f := v.here.Facts; f != nil && f.PHP != "" && series(f.PHP) != series(is.Version) {
		v.note(site.Warn, "php", fmt.Sprintf("the site runs on PHP %s, and %s has %s", f.PHP, v.there.Host, is.Version),
			"try it first: alibi copy "+v.here.Name+" --php "+series(is.Version))
	}
	if v.here.Database.Served() && !slices.Contains(is.Extensions, "mysqli") && v.here.Stack != "plain" {
		v.note(site.Block, "extension", v.there.Host+" has no mysqli: the site would not reach its database",
			"install that extension of PHP there")
	}
	if was == nil {
		return nil
	}
	var missing []string
	for _, e := range was.Extensions {
		if !slices.Contains(is.Extensions, e) && e != "mysqli" {
			missing = append(missing, e)
		}
	}
	if len(missing) > 0 {
		v.note(site.Warn, "extension", fmt.Sprintf("%s lacks %s of PHP that %s has: %s", v.there.Host,
			site.Plural(int64(len(missing)), "extension", "extensions"), v.here.Host, strings.Join(missing, ", ")),
			"see whether the site needs them, and install these")
	}
	for _, l := range []struct{ what, is, was string }{{"memory_limit", is.Memory, was.Memory},
		{"upload_max_filesize", is.Upload, was.Upload}, {"post_max_size", is.Post, was.Post}} {
		if a, b := iniBytes(l.is), iniBytes(l.was); a > 0 && (b < 0 || a < b) {
			v.note(site.Warn, "limit", fmt.Sprintf("%s is %s on %s, and %s on %s", l.what, l.is, v.there.Host, l.was,
				v.here.Host), "raise it there")
		}
	}
	return nil
}

func series(v string) string {
	parts := strings.SplitN(v, ".", 3)
	return strings.Join(parts[:min(2, len(parts))], ".")
}

// iniBytes reads a size as PHP's configuration has it; -1 is no bound.
func iniBytes(s string) int64 {
	unit := int64(1)
	switch {
	case s == "":
		return 0
	case strings.ContainsAny(s[len(s)-1:], "kK"):
		unit = 1 << 10
	case strings.ContainsAny(s[len(s)-1:], "mM"):
		unit = 1 << 20
	case strings.ContainsAny(s[len(s)-1:], "gG"):
		unit = 1 << 30
	}
	n, err := strconv.ParseInt(strings.TrimRight(s, "kKmMgG"), 10, 64)
	if err != nil {
		return 0
	}
	return n * unit
}

// database compares the servers, and sees what is in the database at the new place.
func (v *surveying) database(ctx context.Context) error {
	if !v.here.Database.Served() {
		return nil
	}
	if v.m.Server && len(v.m.Passes) == 0 {
		is, err := v.env.AbilitiesOn(ctx, v.there.Host)
		if err != nil {
			v.note(site.Block, "server", "the database server of "+v.there.Host+": "+err.Error(),
				"alibi host set "+v.there.Host+" --database ADDRESS --database-user NAME")
			return ctx.Err()
		}
		return v.abilities(ctx, is)
	}
	if !v.m.Own && len(v.m.Passes) == 0 {
		v.note(site.Note, "server", "what the database server at the new place can do is seen once it is reached", "")
		return nil
	}
	is, err := v.env.Abilities(ctx, v.there)
	if err != nil {
		v.note(site.Block, "server", "the database at the new place: "+err.Error(), "see that its account is right")
		return ctx.Err()
	}
	if v.there.Database.Prefix != v.here.Database.Prefix {
		v.note(site.Block, "prefix", fmt.Sprintf("the configuration at the new place says the table prefix %q, and the site "+
			"has %q", v.there.Database.Prefix, v.here.Database.Prefix), "give it the same prefix there")
	}
	return v.abilities(ctx, is)
}

// abilities holds what a server knows against what the tables need.
func (v *surveying) abilities(ctx context.Context, is *tables.Abilities) error {
	was, err := v.env.Abilities(ctx, v.here)
	if err != nil || is == nil || was == nil {
		return err
	}
	missing := map[string]string{}
	err = v.env.Tables(ctx, v.here, func(_ stack.Stack, snap tables.Snapshot) error {
		for _, t := range snap.Schema().Tables {
			for _, c := range t.Columns {
				if c.Collation != "" && !is.Collations[c.Collation] {
					missing[c.Collation] = t.Name + "." + c.Name
				}
			}
		}
		for _, p := range snap.Schema().Problems {
			v.note(site.Warn, "tables", p, "bring it by hand")
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, c := range slices.Sorted(maps.Keys(missing)) {
		v.note(site.Block, "collation", fmt.Sprintf("the server of %s (%s) does not know the collation %s, which %s has",
			v.there.Host, is.Version, c, missing[c]), "give these columns another one on a copy first, and carry that home")
	}
	if is.Packet < was.Packet {
		v.note(site.Warn, "packet", fmt.Sprintf("a row may have %s on %s, and %s on %s", site.Size(is.Packet), v.there.Host,
			site.Size(was.Packet), v.here.Host), "raise max_allowed_packet there")
	}
	if is.Modes != was.Modes {
		v.note(site.Note, "modes", fmt.Sprintf("the servers are not equally strict: sql_mode is %q there and %q here",
			is.Modes, was.Modes), "see that the site writes as before")
	}
	if is.Folds != was.Folds {
		v.note(site.Warn, "case", "names of tables are the same in upper and lower case on one of the servers only",
			"see whether two tables of the site differ by that")
	}
	return nil
}
