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
	"alibi/internal/tables/engines"
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
	v.aboutAddress()
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
	if v.out.PerFile, err = tree.PerFile(ctx, p.Root, list.Entries); err != nil {
		return fmt.Errorf("reading some of the site's files: %w", err)
	}
	v.listed(list)
	return nil
}

// listed judges a list of the files that will arrive.
func (v *surveying) listed(list *tree.Listing) {
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
		more, err := tree.PerNewFile(root)
		if err != nil {
			return err
		}
		v.out.PerFile += more
		if len(in) > 0 && len(v.m.Passes) == 0 {
			v.note(site.Warn, "over", fmt.Sprintf("%s on %s is not empty: %s will be what the live site has, or go",
				v.there.Root, v.there.Host, site.Plural(int64(len(in)), "entry", "entries")),
				"a restore point of it is taken first")
		}
	}
	if len(v.m.Passes) > 0 {
		return nil
	}
	dir := above(ctx, h, v.there.Root)
	free, err := h.Free(ctx, dir)
	if err != nil {
		return err
	}
	inodes := int64(0)
	out, err := h.Command(ctx, "df", "-Pi", dir)
	if f := strings.Fields(string(out)); err == nil && len(f) > 6 {
		inodes, _ = strconv.ParseInt(f[len(f)-3], 10, 64)
	}
	all, with, err := v.together(ctx)
	if err != nil {
		return err
	}
	v.fits(free, inodes, all, with)
	return ctx.Err()
}

// fits judges the room on a disk, in bytes and inodes (0: not known), by what will arrive from here and all that will.
func (v *surveying) fits(free, inodes int64, all plan.Survey, with string) {
	need := func(bytes int64) int64 { return bytes + bytes/10 }
	switch {
	case free > 0 && free < need(v.out.Bytes):
		v.note(site.Block, "disk", fmt.Sprintf("%s will arrive, and %s are free on %s", site.Size(v.out.Bytes),
			site.Size(free), v.there.Host), "make room there, or leave something out of the site")
	case free > 0 && free < need(all.Bytes):
		v.note(site.Warn, "disk", fmt.Sprintf("%s will arrive on %s together with %s, and %s are free", site.Size(all.Bytes),
			v.there.Host, with, site.Size(free)), "make room there, unless they come to another disk")
	}
	switch {
	case inodes > 0 && inodes < int64(v.out.Files):
		v.note(site.Block, "inodes", fmt.Sprintf("%s files will arrive, and the disk of %s takes %s more",
			site.Number(v.out.Files), v.there.Host, site.Number(int(inodes))), "ask for more inodes there")
	case inodes > 0 && inodes < int64(all.Files):
		v.note(site.Warn, "inodes", fmt.Sprintf("%s files will arrive on %s together with %s, and the disk takes %s more",
			site.Number(all.Files), v.there.Host, with, site.Number(int(inodes))),
			"ask for more inodes there, unless they come to another disk")
	}
}

// together is what will arrive on the host by this move and by others of which nothing was brought yet; with names
// these.
func (v *surveying) together(ctx context.Context) (all plan.Survey, with string, err error) {
	list, err := v.env.Record.Moves(ctx)
	if err != nil {
		return all, "", err
	}
	all = v.out
	var names []string
	for _, o := range list {
		if o.Name == v.m.Name || o.To.Host != v.m.To.Host || len(o.Passes) > 0 || o.Survey == nil {
			continue
		}
		all.Bytes, all.Files = all.Bytes+o.Survey.Bytes, all.Files+o.Survey.Files
		names = append(names, o.Name)
	}
	return all, strings.Join(names, ", "), nil
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
	v.runs(is, was)
	return nil
}

// runs judges the PHP of the new place by the one of the old place, which may not be known.
func (v *surveying) runs(is, was *phpState) {
	if f := v.here.Facts; f != nil && f.PHP != "" && series(f.PHP) != series(is.Version) {
		v.note(site.Warn, "php", fmt.Sprintf("the site runs on PHP %s, and %s has %s", f.PHP, v.there.Host, is.Version),
			"try it first: alibi copy "+v.here.Name+" --php "+series(is.Version))
	}
	if v.here.Database.Served() && !slices.Contains(is.Extensions, "mysqli") && v.here.Stack != "plain" {
		v.note(site.Block, "extension", v.there.Host+" has no mysqli: the site would not reach its database",
			"install that extension of PHP there")
	}
	if was == nil {
		return
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
	var is *tables.Abilities
	var err error
	if v.m.Own || len(v.m.Passes) > 0 {
		is, err = v.env.Abilities(ctx, v.there)
	} else {
		is, err = v.named(ctx)
	}
	if err != nil {
		remedy := "see that its account is right"
		switch {
		case v.there.Relay != "" && errors.Is(err, fs.ErrNotExist):
			remedy = "make the folder there first, and see that the web server shows it"
		case v.there.Relay == "" && (errors.Is(err, host.ErrNoForward) || errors.Is(err, host.ErrNoConnect)):
			remedy = "begin again, with the address at which the folder there answers, and it is reached by a PHP file " +
				"that is put there: --relay https://ADDRESS"
		}
		v.note(site.Block, "server", "the database at the new place: "+err.Error(), remedy)
		return ctx.Err()
	}
	if v.m.Own {
		one, err := oneDatabase(ctx, v.env, v.here, v.there)
		if err != nil {
			return err
		}
		if one {
			v.note(site.Block, "one-database", "the configuration at the new place names the database of "+v.here.Name+
				" itself", "have it name another one")
		}
	}
	if v.there.Database.Prefix != v.here.Database.Prefix {
		v.note(site.Block, "prefix", fmt.Sprintf("the configuration at the new place says the table prefix %q, and the site "+
			"has %q", v.there.Database.Prefix, v.here.Database.Prefix), "give it the same prefix there")
	}
	return v.abilities(ctx, is)
}

// named looks at the database that was named, of which no configuration says yet how it is reached.
func (v *surveying) named(ctx context.Context) (*tables.Abilities, error) {
	password, err := v.env.Secrets.Read(v.m.PasswordFile)
	if err != nil {
		return nil, err
	}
	srv, err := v.env.ServerAs(ctx, v.there, password)
	if err != nil {
		return nil, err
	}
	snap, err := srv.Open(v.there.Database.Name, tables.Prefix{}).Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	if all := snap.Schema().Tables; len(all) > 0 {
		v.note(site.Block, "full", notEmpty(v.there, all), "name one that is empty: alibi move "+v.m.Name+
			" forget, and begin again")
	}
	return op.AbilitiesOf(ctx, srv)
}

// notEmpty says that a database has tables in which nothing is to be: they may be another site's.
func notEmpty(there site.Site, all []tables.Table) string {
	return fmt.Sprintf("the database %s on %s is not empty: it has %s, the first: %s", there.Database.Text(), there.Host,
		site.Plural(int64(len(all)), "table", "tables"), all[0].Name)
}

// abilities holds what a server knows against what the tables need.
func (v *surveying) abilities(ctx context.Context, is *tables.Abilities) error {
	was, err := v.env.Abilities(ctx, v.here)
	if err != nil || is == nil || was == nil {
		return err
	}
	err = v.env.Tables(ctx, v.here, func(_ stack.Stack, snap tables.Snapshot) error {
		for _, p := range snap.Schema().Problems {
			v.note(site.Warn, "tables", p, "bring it by hand")
		}
		v.collations(snap.Schema(), is)
		return nil
	})
	if err == nil {
		v.serves(is, was)
	}
	return err
}

// serves judges the database server of the new place by that of the old one.
func (v *surveying) serves(is, was *tables.Abilities) {
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
}

// collations says which collations the tables can't keep.
func (v *surveying) collations(s tables.Schema, is *tables.Abilities) {
	to, missing := engines.Exchange(s, chosen(v.m), is.Collations)
	used := engines.Collations(s)
	for _, c := range slices.Sorted(maps.Keys(missing)) {
		what, remedy := noCollation(v.m.Name, c, missing[c], v.there.Host, is.Version)
		v.note(site.Block, "collation", what, remedy)
	}
	for _, c := range slices.Sorted(maps.Keys(to)) {
		if _, same := engines.Nearest(c, map[string]bool{to[c]: true}); same {
			continue // it is called otherwise there
		}
		why := "the server of " + v.there.Host + " does not know the collation " + c + ", which " + used[c] + " has"
		if is.Collations[c] {
			why = "the collation " + c + ", which " + used[c] + " has, is to be another one"
		}
		v.note(site.Warn, "collation", why+": there it becomes "+to[c]+", by which texts may sort, or be found, otherwise",
			"to have another one, "+chooseCollation(v.m.Name, c))
	}
}
