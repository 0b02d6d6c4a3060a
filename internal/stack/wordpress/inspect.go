package wordpress

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Inspect reads configuration, components and tables.
func (s Stack) Inspect(ctx context.Context, p stack.Place) (*site.Facts, error) {
	began := time.Now()
	conf, above, err := loadConfig(ctx, p)
	if err != nil {
		return nil, err
	}
	f := &site.Facts{At: began, Stack: s.Name(), Database: database(conf, p.Root.Path())}
	f.Prefix = f.Database.Prefix
	note := func(sev site.Severity, code, text, remedy string) {
		f.Findings = append(f.Findings, site.Finding{Severity: sev, Code: code, Text: text, Remedy: remedy})
	}
	if above {
		note(site.Note, "config-above", "the configuration stands one folder above the document root",
			"the copy gets one of its own inside its folder")
	}
	if why := conf.ambiguous(); why != "" {
		db := f.Database.Text()
		if all := conf.databases(); len(all) > 1 && !conf.evaluated && !conf.chosen {
			return nil, fmt.Errorf("which database is the site's depends on what asks for it: %s; say which it is "+
				"(--database): %s", why, strings.Join(all, ", "))
		}
		switch {
		case conf.chosen && !conf.evaluated:
			note(
				site.Note,
				"config-branches",
				"what wp-config.php sets depends on what asks for it ("+why+"); the database "+db+
					" was said to be the site's",
				"the copy gets a database of its own, whatever asks for it",
			)
		case conf.evaluated:
			note(
				site.Note,
				"config-branches",
				"what wp-config.php sets depends on what asks for it ("+why+
					"); for the site's address PHP says that it uses the database "+db,
				"the copy gets a database of its own, whatever asks for it",
			)
		case conf.why != nil:
			note(
				site.Warn,
				"config-branches",
				fmt.Sprintf(
					"what wp-config.php sets depends on what asks for it (%s), and %s; as far as it can be read, it "+
						"uses the database %s",
					why,
					conf.why,
					db,
				),
				"see that this is the live site's database before you copy it",
			)
		default:
			note(
				site.Warn,
				"config-branches",
				"what wp-config.php sets depends on what asks for it ("+why+
					"); as far as it can be read, it uses the database "+db,
				"see that this is the live site's database; with a PHP on this machine, PHP itself says it",
			)
		}
	}
	for name, c := range conf.Constants {
		if !c.Known && c.Env != "" && (strings.HasPrefix(name, "DB_") || strings.HasPrefix(name, "WP_")) {
			note(site.Warn, "config-env", fmt.Sprintf("%s comes from the environment variable %s, which can't be "+
				"read from here", name, c.Env),
				"the copy needs the same variable, or a value written into its wp-config.php")
		}
	}
	f.Memory = bytesOf(conf.Constants["WP_MEMORY_LIMIT"].Value)
	f.Core = coreVersion(p.Root)
	f.PHP = phpVersion(ctx, p.Host)
	if err := components(ctx, p, f); err != nil {
		return nil, err
	}
	files, err := measure(ctx, p, f)
	if err != nil {
		return nil, err
	}
	if free, err := p.Host.Free(ctx, p.Root.Path()); err == nil {
		f.Free = free
	}
	if err := readTables(ctx, p, conf, f); err != nil {
		return nil, err
	}
	if f.Network != nil {
		weigh(f, files)
	}
	judge(f, note)
	f.Took = time.Since(began)
	return f, nil
}

func coreVersion(root host.Tree) string {
	b, err := host.ReadFile(root, "wp-includes/version.php", maxConfig)
	if err != nil {
		return ""
	}
	return readConfig(string(b), "").Variables["wp_version"].Value
}

// phpVersion asks the host, where it allows commands.
func phpVersion(ctx context.Context, h host.Host) string {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	out, err := h.Command(ctx, "php", "-r", "echo PHP_VERSION;")
	if err != nil || len(out) > 20 {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// bytesOf reads PHP's shorthand for sizes: 128M.
func bytesOf(s string) int64 {
	var n int64
	var unit string
	fmt.Sscanf(s, "%d%s", &n, &unit)
	switch strings.ToUpper(unit) {
	case "K":
		return n << 10
	case "M":
		return n << 20
	case "G":
		return n << 30
	}
	return n
}

// readTables takes one snapshot and gathers everything that the tables tell.
func readTables(ctx context.Context, p stack.Place, conf config, f *site.Facts) error {
	if db := f.Database; db.Served() && (db.Name == "" || db.User == "") {
		return fmt.Errorf(
			"the configuration works out DB_NAME or DB_USER when it runs, and Alibi runs no code of a live site: %w; "+
				"write the values into wp-config.php",
			tables.ErrRefused,
		)
	}
	db, err := stack.OpenDatabase(ctx, Stack{}, p, f.Database)
	if err != nil {
		return fmt.Errorf("opening the database: %w", err)
	}
	snap, err := db.Snapshot(ctx)
	if err != nil {
		return fmt.Errorf("reading the database: %w", err)
	}
	defer snap.Close()
	mine := 0
	for _, t := range snap.Schema().Tables {
		f.Tables = append(f.Tables, site.Table{Name: t.Name, Rows: t.Rows, Bytes: t.Bytes,
			Keyless: t.Hidden || len(t.Key) == 0})
		f.Rows += t.Rows
		f.TableBytes += t.Bytes
		if strings.HasPrefix(t.Name, f.Prefix) {
			mine++
		}
	}
	if _, ok := snap.Schema().Table(f.Prefix + "options"); !ok {
		return fmt.Errorf(
			"the database has no table %soptions: the prefix in wp-config.php does not fit it, or the site was "+
				"never set up",
			f.Prefix,
		)
	}
	d := &data{ctx: ctx, snap: snap, prefix: f.Prefix}
	if err := d.read(); err != nil {
		return err
	}
	d.tell(f, conf)
	return nil
}

// judge adds the remarks that follow from the facts.
func judge(f *site.Facts, note func(site.Severity, string, string, string)) {
	for _, t := range f.Tables {
		if t.Rows > 100_000 && t.Keyless {
			note(site.Note, "keyless", fmt.Sprintf("the table %s has %d rows and no key of its own", t.Name, t.Rows),
				"it is copied in one piece")
		}
	}
	if f.Memory > 0 && f.Memory < 96<<20 && len(f.Plugins) > 4 {
		note(site.Warn, "memory", fmt.Sprintf("PHP may use %s here, little for %d plugins", site.Size(f.Memory),
			len(f.Plugins)), "give the copy more, or expect pages that break off")
	}
	for _, c := range append(append([]site.Component(nil), f.Plugins...), f.Themes...) {
		if c.State == "missing" {
			note(site.Warn, "missing", fmt.Sprintf("%s is switched on, and its files are missing", c.Slug),
				"the copy will have the same gap")
		}
		if c.RequiresPHP != "" && f.PHP != "" && older(f.PHP, c.RequiresPHP) {
			note(site.Warn, "requires-php", fmt.Sprintf("%s asks for PHP %s or later, and the site runs %s", c.Name,
				c.RequiresPHP, f.PHP), "try it on a copy with a later PHP first")
		}
		if c.RequiresCore != "" && f.Core != "" && older(f.Core, c.RequiresCore) {
			note(site.Warn, "requires-core", fmt.Sprintf("%s asks for core %s or later, and the site runs %s", c.Name,
				c.RequiresCore, f.Core), "try it on a copy with a later core first")
		}
	}
}

// older compares versions number by number; what is no number counts as 0.
func older(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		m, n := 0, 0
		if i < len(x) {
			fmt.Sscanf(x[i], "%d", &m)
		}
		if i < len(y) {
			fmt.Sscanf(y[i], "%d", &n)
		}
		if m != n {
			return m < n
		}
	}
	return false
}

// row gives a row's columns by name.
type row struct {
	t tables.Table
	r tables.Row
}

func (r row) text(col string) string {
	if i := r.t.Column(col); i >= 0 {
		return r.r.Values[i].String()
	}
	return ""
}

// each reads a table of the installation, if it is there.
func (d *data) each(name string, give func(row)) error {
	t, ok := d.snap.Schema().Table(d.prefix + name)
	if !ok {
		return nil
	}
	err := d.snap.Read(d.ctx, t.Name, tables.Range{}, func(r tables.Row) error {
		give(row{t, r})
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading table %s: %w", t.Name, err)
	}
	return nil
}

// tell puts what was read into the facts.
func (d *data) tell(f *site.Facts, conf config) {
	f.Title = d.options["blogname"]
	if v := conf.Constants["WP_HOME"]; v.Known && v.Value != "" {
		d.options["home"] = v.Value
	}
	f.Addresses = d.addresses(conf)
	f.Network = d.network(conf)
	if f.Network != nil {
		for _, s := range f.Network.Sites {
			f.Addresses = addAddress(f.Addresses, s.Address)
		}
	}
	d.states(f)
	f.Contents = counts(d.contents)
	f.Users = counts(d.roles)
	d.countKinds(f)
	f.Tasks = d.tasks()
	f.Outward = d.outward(f)
	if n := len(d.broken); n > 0 {
		f.Findings = append(
			f.Findings,
			site.Finding{
				Severity: site.Warn,
				Code:     "broken-value",
				Text: fmt.Sprintf("%s broken already: %s",
					site.Plural(n, "serialized value is", "serialized values are"), d.broken[0]),
				Remedy: "they are copied byte for byte and listed in the evidence; fix them on the origin",
			},
		)
	}
}

func (d *data) addresses(conf config) []site.Address {
	var out []site.Address
	for _, s := range []string{d.options["home"], d.options["siteurl"], conf.Constants["WP_SITEURL"].Value} {
		if a, err := site.ParseAddress(s); err == nil {
			out = addAddress(out, a)
		}
	}
	return out
}

func addAddress(list []site.Address, a site.Address) []site.Address {
	for _, have := range list {
		if have == a {
			return list
		}
	}
	return append(list, a)
}

func (d *data) network(conf config) *site.Network {
	if m := conf.Constants["MULTISITE"]; m.Value != "1" || len(d.blogs) == 0 {
		return nil
	}
	n := &site.Network{SubDomains: conf.Constants["SUBDOMAIN_INSTALL"].Value == "1"}
	scheme := "https"
	if a, err := site.ParseAddress(d.options["home"]); err == nil {
		scheme = a.Scheme
	}
	for _, b := range d.blogs {
		if a, err := site.ParseAddress(scheme + "://" + path.Join(b.domain, b.path)); err == nil {
			n.Sites = append(n.Sites, site.SubSite{ID: b.id, Address: a, Title: b.title, State: b.state})
		}
	}
	return n
}
