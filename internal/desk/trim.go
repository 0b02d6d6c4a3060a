package desk

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"alibi/internal/op/reset"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// Trims weighs the parts of a site that can be done without. Where it is on its way to another place, each tells how
// much of a first pass it takes.
func (d *Copies) Trims(ctx context.Context, id site.ID) (out []reset.Weight, err error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		out, err = reset.Weighed(ctx, st, snap, s, d.now())
		return err
	})
	if err != nil {
		return nil, err
	}
	files, err := d.weighedFiles(ctx, s)
	if err != nil {
		return nil, err
	}
	out = append(out, files...)
	all, err := d.record.Moves(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range all {
		if m.Site != id || len(m.Passes) == 0 || m.Survey == nil || m.Survey.Bytes == 0 {
			continue
		}
		for i := range out {
			out[i].Saves = time.Duration(float64(m.Passes[0].Took) * float64(out[i].Bytes) / float64(m.Survey.Bytes))
		}
	}
	return out, nil
}

// weighedFiles weighs the files that a site can do without.
func (d *core) weighedFiles(ctx context.Context, s site.Site) (out []reset.Weight, err error) {
	at, err := d.env.Place(ctx, s.Host, s.Root)
	if err != nil {
		return nil, err
	}
	defer at.Root.Close()
	files, err := tree.Scan(ctx, at.Root, stack.DatabaseFilter(s.Root, s.Database))
	if err != nil {
		return nil, fmt.Errorf("listing the files of %s: %w", s.Name, err)
	}
	err = d.database(ctx, s, func(st stack.Stack, snap tables.Snapshot) (err error) {
		out, err = reset.WeighedFiles(ctx, st, snap, files)
		return err
	})
	return out, err
}

// TrimSheet is what the owners of a site are asked, and what they say.
type TrimSheet struct {
	Site  string      `toml:"site"`
	Asked time.Time   `toml:"asked"`
	Parts []TrimAsked `toml:"part"`
}

// TrimAsked is one part of it.
type TrimAsked struct {
	Name  string `toml:"name"`
	About string `toml:"about" comment:"what it is"`
	Rows  int64  `toml:"rows"`
	Files int64  `toml:"files"`
	Bytes int64  `toml:"bytes"`
	Drop  bool   `toml:"drop" comment:"true: it may go; false: it stays"`
	By    string `toml:"by" comment:"who decided that"`
}

// WriteTrimSheet writes a sheet for the owners of a site; an existing file stays.
func (d *Copies) WriteTrimSheet(ctx context.Context, id site.ID, file string) ([]reset.Weight, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return nil, err
	}
	list, err := d.Trims(ctx, id)
	if err != nil {
		return nil, err
	}
	sheet := TrimSheet{Site: s.Name, Asked: d.now().UTC().Truncate(time.Second)}
	for _, w := range list {
		sheet.Parts = append(sheet.Parts, TrimAsked{Name: w.Name, About: w.About, Rows: w.Rows, Files: w.Count,
			Bytes: w.Bytes})
	}
	text, err := toml.Marshal(sheet)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return nil, fmt.Errorf("writing the sheet: %w", err)
	}
	_, err = f.Write(append([]byte("# What can be done without of "+s.Name+". Set drop to true for what may go, and your "+
		"name beside it, and send the sheet back.\n"), text...))
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	return list, err
}

// ReadTrimSheet reads what the owners of a site said may go.
func (d *Copies) ReadTrimSheet(s site.Site, file string) (parts []string, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the sheet: %w", err)
	}
	var sheet TrimSheet
	if err := toml.Unmarshal(text, &sheet); err != nil {
		return nil, fmt.Errorf("the sheet %s: %w", file, err)
	}
	if sheet.Site != s.Name {
		return nil, fmt.Errorf("the sheet %s is about %q, and this is %s", file, sheet.Site, s.Name)
	}
	for _, p := range sheet.Parts {
		if p.Drop && strings.TrimSpace(p.By) == "" {
			return nil, fmt.Errorf("the sheet %s says that %s may go, and not who decided that: write a name into by", file,
				p.Name)
		}
		if p.Drop {
			parts = append(parts, p.Name)
		}
	}
	if len(parts) == 0 {
		return nil, fmt.Errorf("the sheet %s says of nothing that it may go: nothing is to be done", file)
	}
	return parts, nil
}

// knownTrims tells whether a kind of site has parts of these names.
func knownTrims(st stack.Stack, parts []string) error {
	var names []string
	for _, p := range stack.TrimsOf(st) {
		names = append(names, p.Name)
	}
	for _, p := range parts {
		if !slices.Contains(names, p) {
			return fmt.Errorf("%q is no part that can be done without: name %s", p, strings.Join(names, ", "))
		}
	}
	return nil
}
